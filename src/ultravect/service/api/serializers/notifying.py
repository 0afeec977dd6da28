"""Rules for messages: what is given and taken."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from drf_spectacular.utils import extend_schema_field
from pydantic import TypeAdapter, ValidationError
from rest_framework import serializers

from ultravect.core.model.jobs.schedule import ClockTime, ZoneName
from ultravect.service.api.serializers.common import Text
from ultravect.service.records.models import Message, NotifyRule, Occasion
from ultravect.service.work.outgoing.delivery import subject_of

_CLOCK, _ZONE = TypeAdapter(ClockTime), TypeAdapter(ZoneName)
_OCCASIONS = [occasion for occasion in Occasion if occasion != Occasion.TEST]


class NotifyRuleSerializer(serializers.ModelSerializer[NotifyRule]):
    """Who is sent a message of what."""

    occasions = serializers.ListField(
        child=serializers.ChoiceField(choices=[str(occasion) for occasion in _OCCASIONS]),
        allow_empty=False,
        help_text="failed; recovered: succeeded after it had failed; rejects: succeeded, and rejected rows; late: not succeeded by "
        "run.due; guard: a guard that only warns was not met; changed: a load has changed its target; missing: no file where one was "
        "expected; unmatched: files of a feed that fit no provider.",
    )
    jobs = serializers.ListField(child=serializers.CharField(max_length=64), default=list, help_text="Of these jobs.")
    labels = serializers.ListField(
        child=serializers.CharField(max_length=64),
        default=list,
        help_text="Of jobs with one of these labels. Without jobs and labels: of all.",
    )
    mail = serializers.ListField(child=serializers.EmailField(), default=list, max_length=50, help_text="Addresses.")
    webhook = serializers.CharField(
        max_length=2000, default="", allow_blank=True, help_text="An address that is sent JSON by POST."
    )
    key = serializers.CharField(
        write_only=True,
        required=False,
        allow_blank=True,
        min_length=16,
        max_length=500,
        help_text="Messages to the webhook are signed with it. Left out of a change: as it is.",
    )
    signed = serializers.SerializerMethodField(help_text="Whether there is such a key.")
    quiet_from = serializers.CharField(
        max_length=5, default="", allow_blank=True, help_text="Hours in which nothing is sent begin, such as 22:00."
    )
    quiet_to = serializers.CharField(
        max_length=5, default="", allow_blank=True, help_text="They end, and what came up is sent."
    )
    remind_hours = serializers.IntegerField(
        default=0,
        min_value=0,
        max_value=720,
        help_text="After how many hours failed and late are said again; 0: never.",
    )
    quiet_zone = serializers.CharField(max_length=100, default="UTC")

    class Meta:
        model = NotifyRule
        fields = [
            "name", "occasions", "jobs", "labels", "mail", "webhook", "key", "signed", "quiet_from", "quiet_to", "quiet_zone",
            "remind_hours",
        ]  # fmt: skip
        read_only_fields = ["name"]

    @extend_schema_field(serializers.BooleanField())
    def get_signed(self, rule: NotifyRule) -> bool:
        return bool(rule.sealed)

    def validate_webhook(self, value: str) -> str:
        if not value:
            return value
        try:
            parts = urlsplit(value)
            good = parts.scheme in ("http", "https") and parts.hostname and (parts.port or 1)
        except ValueError:
            good = False
        if not good or parts.username or parts.password:
            raise serializers.ValidationError(
                "an address that begins with https:// or http://, without user and password"
            )
        return value

    def validate(self, given: dict[str, Any]) -> dict[str, Any]:
        if not (given["mail"] or given["webhook"]):
            raise serializers.ValidationError({"mail": "name addresses, or a webhook"})
        if given["mail"] and not settings.MAIL_SERVER:
            raise serializers.ValidationError({"mail": "this service has no mail server: see ULTRAVECT_MAIL_SERVER"})
        if bool(given["quiet_from"]) != bool(given["quiet_to"]):
            raise serializers.ValidationError({"quiet_to": "quiet hours have a beginning and an end"})
        for name, kind in (("quiet_from", _CLOCK), ("quiet_to", _CLOCK), ("quiet_zone", _ZONE)):
            if given[name]:
                try:
                    kind.validate_python(given[name])
                except ValidationError as error:
                    said = error.errors()[0]["msg"].removeprefix("Value error, ")
                    raise serializers.ValidationError({name: said}) from None
        return given


class MessageSerializer(serializers.ModelSerializer[Message]):
    rule = Text(source="rule.name")
    subject = serializers.SerializerMethodField()

    class Meta:
        model = Message
        fields = [
            "id",
            "rule",
            "occasion",
            "subject",
            "items",
            "created_at",
            "send_at",
            "sent_at",
            "attempts",
            "error",
        ]
        read_only_fields = fields

    def get_subject(self, message: Message) -> str:
        return subject_of(message)
