"""Requests and answers about feeds."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from ultravect.service.api.response_parts import shaped
from ultravect.service.api.serializers.common import Text
from ultravect.service.records.models import Feed, FeedEntry, FileState


class FeedSerializer(serializers.ModelSerializer[Feed]):
    about = serializers.SerializerMethodField()
    connection = Text(source="revision.structure.connection")
    revision = serializers.IntegerField(source="revision.number")
    saved_at = serializers.DateTimeField(source="revision.saved_at")
    expected = serializers.SerializerMethodField(help_text='When files are expected; "" where it does not say.')
    providers = serializers.SerializerMethodField()
    files = serializers.SerializerMethodField(help_text="How many files its register has, by their state.")
    file = Text(source="revision.text", help_text="The feed file as it was saved.")
    structure = shaped(serializers.DictField(help_text="The same as JSON."), source="revision.structure")

    class Meta:
        model = Feed
        fields = [
            "name",
            "about",
            "connection",
            "revision",
            "saved_at",
            "expected",
            "providers",
            "files",
            "file",
            "structure",
        ]

    def get_about(self, feed: Feed) -> str:
        return str(feed.revision.structure.get("about", ""))

    def get_expected(self, feed: Feed) -> str:
        return str(feed.revision.structure.get("expected") or "")

    @extend_schema_field(serializers.ListField(child=Text()))
    def get_providers(self, feed: Feed) -> list[str]:
        return list(feed.revision.structure["providers"])

    @extend_schema_field(serializers.DictField(child=serializers.IntegerField()))
    def get_files(self, feed: Feed) -> dict[str, int]:
        counts: dict[str, int] = {}
        for state in feed.entries.values_list("state", flat=True):
            counts[state] = counts.get(state, 0) + 1
        return counts


class FeedFileSerializer(serializers.ModelSerializer[FeedEntry]):
    """A file of a feed, as the register has it."""

    state = serializers.ChoiceField(
        choices=FileState.choices,
        help_text="found: matched, and not loaded yet; unmatched: it fits no version; disputed: patterns of two providers match.",
    )
    provider = Text(read_only=True, help_text='"" where it is no provider\'s.')
    reason = Text(read_only=True, help_text="Why it was not loaded.")
    run = serializers.IntegerField(source="run_id", allow_null=True, help_text="The run that loaded it, or tried to.")

    class Meta:
        model = FeedEntry
        fields = [
            "path", "size", "modified_at", "found_at", "provider", "version", "state", "reason", "run", "leg", "rows", "rejected",
        ]  # fmt: skip


class FilesInputSerializer(serializers.Serializer[Any]):
    state = serializers.ChoiceField(choices=FileState.choices, required=False)
    provider = Text(required=False)
    search = Text(required=False, help_text="Only paths with this in them.")


class DaysInputSerializer(serializers.Serializer[Any]):
    days = serializers.IntegerField(default=14, min_value=1, max_value=92, help_text="How many, up to today.")


class FeedDaySerializer(serializers.Serializer[Any]):
    day = serializers.DateField()
    files = serializers.DictField(child=serializers.IntegerField(), help_text="How many, by their state.")
    missing = serializers.BooleanField(help_text="Whether a file was expected by now, and none came.")


class FeedProviderDaysSerializer(serializers.Serializer[Any]):
    name = Text(help_text='"" for files of no provider.')
    days = FeedDaySerializer(many=True)


class FeedDaysSerializer(serializers.Serializer[Any]):
    days = serializers.ListField(child=serializers.DateField())
    providers = FeedProviderDaysSerializer(many=True)


class DraftVersionInputSerializer(serializers.Serializer[Any]):
    path = Text(help_text="A file of the feed's connection.")
    provider = Text(
        default="",
        allow_blank=True,
        help_text="Whose version it is to be. Left out: as the register says, or a new one.",
    )
