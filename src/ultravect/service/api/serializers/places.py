"""Connections, what they hold, layouts, and types."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from pydantic import ValidationError
from rest_framework import serializers

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import borrowed, dialects, kind_named, kinds, settings_of
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import admin_keys
from ultravect.core.model.problems import did_you_mean, problems_of
from ultravect.service.api.response_parts import (
    BadRowSerializer,
    ErrorSerializer,
    FindingSerializer,
    SeenColumnSerializer,
    StoredObjectSerializer,
    shaped,
)
from ultravect.service.api.serializers.common import NAME, NAME_RULE, NamePattern, Text, YesOrNo
from ultravect.service.api.serializers.people import _SITE_RULE
from ultravect.service.records.models import Connection, Role, SavedLayout
from ultravect.service.work.workers.sites import SITE_PATTERN


class KindField(serializers.ChoiceField):
    """A kind of connection; another one is refused with the nearest, or with the reason why it cannot be used."""

    def to_internal_value(self, data: Any) -> Any:
        try:
            return kind_named(str(data)).name
        except UltravectError as error:
            raise serializers.ValidationError(f"{error.detail}; {error.hint}") from None


class ConnectionSerializer(serializers.ModelSerializer[Connection]):
    """Secrets are taken, and never given back; left out when changing, they stay as they are."""

    name = NamePattern(NAME, error_messages=NAME_RULE)
    kind = KindField(choices=sorted(kinds()))
    settings = serializers.DictField()
    secrets_set = serializers.ListField(child=Text(), read_only=True)
    holds = serializers.SerializerMethodField(help_text="What it has: tables, or files.")
    site = NamePattern(
        SITE_PATTERN,
        required=False,
        allow_blank=True,
        error_messages=_SITE_RULE,
        help_text="The network location whose workers reach it (`ultravect worker --site`); left out where all do.",
    )

    at_most = serializers.IntegerField(
        min_value=1,
        max_value=1000,
        required=False,
        allow_null=True,
        help_text="How many legs may use it at once, in all runs together; left out or null: as many as workers have places.",
    )

    class Meta:
        model = Connection
        fields = ["name", "kind", "settings", "site", "at_most", "secrets_set", "holds", "created_at", "changed_at"]
        read_only_fields = ["created_at", "changed_at"]

    @extend_schema_field(serializers.ChoiceField(choices=["tables", "files"]))
    def get_holds(self, connection: Connection) -> str:
        kind = kinds().get(connection.kind)
        return kind.holds if kind else "tables"

    def validate_name(self, name: str) -> str:
        if self.instance is not None and name != self.instance.name:
            raise serializers.ValidationError("a connection keeps its name")
        if self.instance is None and Connection.objects.filter(name=name).exists():
            raise serializers.ValidationError(f"there is a connection {name!r} already")
        return name

    def validate_kind(self, kind: str) -> str:
        if self.instance is not None and kind != self.instance.kind:
            raise serializers.ValidationError("a connection keeps its kind; remove it and add another")
        return kind

    def to_representation(self, instance: Connection) -> dict[str, Any]:
        """Settings in the order of their kind, which the database does not keep."""
        shown = super().to_representation(instance)
        kind = kinds().get(instance.kind)  # None where its package is no longer installed
        known = kind.settings.model_fields if kind else instance.settings
        order = [name for name in known if instance.settings.get(name) not in (None, "", [])]
        return {**shown, "settings": {name: instance.settings[name] for name in order}}

    def _require_admin(self, connection: Connection, given: dict[str, Any]) -> None:
        """Some settings let statements of jobs do more: an admin alone changes them."""
        user = self.context["request"].user
        for key in sorted(admin_keys(settings_of(connection.kind))):
            before = connection.settings.get(key) if connection.pk else None
            if bool(given.get(key)) and given[key] != before and not user.may(Role.ADMIN):
                raise serializers.ValidationError({"settings": {key: [f"an admin sets {key}"]}})

    def _store(self, connection: Connection, given: dict[str, Any], site: str) -> Connection:
        model: type[Declared] = settings_of(connection.kind)
        self._require_admin(connection, given)
        try:
            connection.set_settings(given, site)
        except ValidationError as error:
            messages = {
                problem.pointer.lstrip("/") or "non_field_errors": [
                    f"{problem.message}; {problem.hint}" if problem.hint else problem.message
                ]
                for problem in problems_of(error, model, {})
            }
            raise serializers.ValidationError({"settings": messages}) from None
        try:
            for setting, other in connection.named().items():
                borrowed(connection.kind)[setting](connection.settings, other.name, other.kind, other.settings)
        except UltravectError as error:
            raise serializers.ValidationError({"settings": {"staging": [f"{error.detail}; {error.hint}"]}}) from None
        connection.save()
        return connection

    def create(self, validated_data: dict[str, Any]) -> Connection:
        connection = Connection(
            name=validated_data["name"],
            kind=validated_data["kind"],
            at_most=validated_data.get("at_most"),
        )
        return self._store(connection, validated_data["settings"], validated_data.get("site", ""))

    def update(self, instance: Connection, validated_data: dict[str, Any]) -> Connection:
        instance.at_most = validated_data.get("at_most", instance.at_most)
        return self._store(instance, validated_data.get("settings", {}), validated_data.get("site", instance.site))


class ProbeRequestSerializer(serializers.Serializer[Any]):
    write = YesOrNo(
        allow_null=True,
        default=None,
        help_text="Whether to also create something in the staging place and drop it; left out: when a job copies into it.",
    )


class ProbeStepSerializer(serializers.Serializer[Any]):
    step = Text(help_text="resolve, reach, sign in, list, read or write")
    state = serializers.ChoiceField(choices=["passed", "failed", "not reached"])
    detail = Text(help_text="What was found, or why it failed.")
    seconds = serializers.FloatField()


class ProbeSerializer(serializers.Serializer[Any]):
    passed = YesOrNo()
    steps = ProbeStepSerializer(many=True)
    error = ErrorSerializer(allow_null=True)


class QuestionSerializer(serializers.Serializer[Any]):
    sql = Text(help_text="One statement that reads.")
    limit = serializers.IntegerField(min_value=1, max_value=10_000, default=200)
    seconds = serializers.FloatField(min_value=0.1, max_value=120, default=20.0)


class AnswerSerializer(serializers.Serializer[Any]):
    columns = serializers.ListField(child=Text())
    types = serializers.ListField(
        child=Text(), help_text='Canonical types of the columns, "" where the database does not say.'
    )
    rows = serializers.ListField(child=serializers.ListField())
    more = YesOrNo(help_text="Whether there are rows beyond the limit.")


class ObjectsSerializer(serializers.Serializer[Any]):
    items = StoredObjectSerializer(many=True)
    more = YesOrNo()
    next = Text(allow_null=True, help_text="Send it as `after` for the next page.")


class PreviewRequestSerializer(serializers.Serializer[Any]):
    object = Text(required=False, help_text="A table, a file, a member of a zip, or a pattern of files.")
    query = Text(required=False, help_text="In place of an object: one statement that reads.")
    layout = serializers.JSONField(required=False, allow_null=True, help_text="A layout, or the name of a saved one.")
    rows = serializers.IntegerField(min_value=0, max_value=1000, default=20)
    random = YesOrNo(default=False)
    whole = YesOrNo(default=False)
    counts = YesOrNo(default=False)

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        if bool(attrs.get("object")) == bool(attrs.get("query")):
            raise serializers.ValidationError("say what to look at: an object, or a query")
        return attrs


class RawBytesSerializer(serializers.Serializer[Any]):
    object = Text()
    size = serializers.IntegerField()
    read = serializers.IntegerField(help_text="How many bytes of the content were read.")
    complete = YesOrNo()
    encoding = Text()
    reason = Text(help_text="Why this encoding was detected.")
    text = Text()
    base64 = Text(help_text="The first 4,096 bytes.")


class LayoutSerializer(serializers.ModelSerializer[SavedLayout]):
    about = serializers.SerializerMethodField()
    format = serializers.SerializerMethodField()
    version = serializers.IntegerField(source="version.number")
    saved_at = serializers.DateTimeField(source="version.saved_at")
    file = Text(source="version.text", help_text="The layout file as it was saved.")
    structure = shaped(serializers.DictField(help_text="The same as JSON."), source="version.structure")

    class Meta:
        model = SavedLayout
        fields = ["name", "about", "format", "version", "saved_at", "file", "structure"]

    def get_about(self, layout: SavedLayout) -> str:
        return str(layout.version.structure.get("about", ""))

    def get_format(self, layout: SavedLayout) -> str:
        return str(layout.version.structure["reads"].get("format", "delimited"))


class FitRequestSerializer(serializers.Serializer[Any]):
    connection = Text()
    object = Text(help_text="A file, or a pattern of files.")


class FitSerializer(serializers.Serializer[Any]):
    fits = YesOrNo()
    findings = FindingSerializer(many=True)


class PreviewSerializer(serializers.Serializer[Any]):
    """The first rows of an object; what only a file has is left out for others."""

    object = Text()
    kind = Text(help_text="file, query, or what the database calls it")
    size = serializers.IntegerField(required=False, help_text="Of a file, in bytes.")
    layout = serializers.DictField(required=False, help_text="The layout of a file, complete.")
    columns = SeenColumnSerializer(many=True)
    rows = serializers.ListField(child=serializers.ListField())
    row_numbers = serializers.ListField(child=serializers.IntegerField(), required=False)
    rows_scanned = serializers.IntegerField(required=False)
    complete = YesOrNo(required=False, help_text="Whether the whole file was looked at.")
    bad_rows = BadRowSerializer(many=True, required=False)
    bad_count = serializers.IntegerField(required=False)
    row_estimate = serializers.IntegerField(required=False, allow_null=True)
    comment = Text(required=False)
    findings = FindingSerializer(many=True)


class TypesInputSerializer(serializers.Serializer[Any]):
    source = serializers.ChoiceField(list(dialects()), required=False, help_text="Only the types of this dialect.")
    target = serializers.ChoiceField(list(dialects()), required=False, help_text="Only what they become in this one.")


class TranslationSerializer(serializers.Serializer[Any]):
    source = Text()
    native = Text()
    canonical = Text()
    target = Text()
    becomes = Text()
    fit = Text()
    change = Text()


def known_connection_hint(name: str) -> str:
    names = list(Connection.objects.values_list("name", flat=True))
    return did_you_mean(name, names) or f"connections here: {', '.join(names) or 'none yet'}"
