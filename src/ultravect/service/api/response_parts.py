"""Parts of answers that are stored or made as JSON: their shapes, for the description of the API."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

_STATES = ["waiting", "running", "done", "failed", "stopped", "cut off"]


def shaped(serializer: Any, *, source: str | None = None) -> Any:
    """A field that gives JSON as it is stored, described as ``serializer``."""
    kind = extend_schema_field(serializer)(type("ShapedField", (serializers.JSONField,), {}))
    return kind(read_only=True, source=source)


class _Text(serializers.CharField):
    """As it is in answers."""


class EditSerializer(serializers.Serializer[Any]):
    """The lines `old` of the job file, from number `line` on, become `new`; without `old`, `new` is put in before that line."""

    line = serializers.IntegerField(help_text="Counted from 1.")
    old = serializers.ListField(child=_Text())
    new = serializers.ListField(child=_Text())


class FindingSerializer(serializers.Serializer[Any]):
    severity = serializers.ChoiceField(["error", "warning", "note"])
    code = _Text()
    message = _Text()
    place = _Text(help_text="The key in the job file, empty when it is about the data.")
    fix = _Text()
    edit = EditSerializer(required=False, help_text="The fix in the job file's own lines.")


class ErrorSerializer(serializers.Serializer[Any]):
    """Why a run, or a test, failed."""

    code = _Text()
    detail = _Text()
    hint = _Text(help_text="What to do.")
    where = serializers.DictField(
        required=False, help_text="The connection, table, file, row or column that it is about."
    )


class PhaseSerializer(serializers.Serializer[Any]):
    name = serializers.ChoiceField(["read", "shape", "stage", "publish", "verify"])
    state = serializers.ChoiceField(_STATES)
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)


class ProgressSerializer(serializers.Serializer[Any]):
    """How far a leg is; sizes are in bytes."""

    rows_scanned = serializers.IntegerField(
        required=False, help_text="Looked at for their types, before the first is read."
    )
    bytes_scanned = serializers.IntegerField(required=False)
    rows_read = serializers.IntegerField(required=False)
    bytes_read = serializers.IntegerField(required=False)
    bytes_total = serializers.IntegerField(required=False, help_text="0 where it is not known.")
    rows_staged = serializers.IntegerField(required=False)
    rows_per_second = serializers.IntegerField(required=False)


class TallySerializer(serializers.Serializer[Any]):
    """The account of a leg's rows: read = filtered + rejected + repeated + inserted + updated + unchanged."""

    read = serializers.IntegerField()
    filtered = serializers.IntegerField()
    rejected = serializers.IntegerField()
    repeated = serializers.IntegerField()
    inserted = serializers.IntegerField()
    updated = serializers.IntegerField()
    unchanged = serializers.IntegerField()


class StrategySerializer(serializers.Serializer[Any]):
    """How the rows of a leg are written."""

    name = serializers.ChoiceField(choices=["direct", "swap", "delete and insert", "merge", "file set"])
    summary = _Text()
    why_not = serializers.DictField(
        child=_Text(), help_text="The quicker strategies, each with what stands in its way."
    )


class TypeChoiceSerializer(serializers.Serializer[Any]):
    type = _Text()
    native = _Text()
    fit = _Text()
    change = _Text()


class CheckColumnSerializer(serializers.Serializer[Any]):
    """A column from source to target; `choices` are other types that it can have, where the table is made."""

    source = _Text()
    name = _Text()
    type = _Text()
    native = _Text()
    evidence = _Text()
    choices = TypeChoiceSerializer(many=True)


class TargetColumnSerializer(serializers.Serializer[Any]):
    source = _Text(help_text="Empty where an expression computes it.")
    name = _Text()
    type = _Text()
    native = _Text()


class BadRowSerializer(serializers.Serializer[Any]):
    row = serializers.IntegerField()
    line = serializers.IntegerField(allow_null=True)
    reason = _Text()


class RejectedRowSerializer(BadRowSerializer):
    """A row that a rehearsal would reject."""

    object = _Text()
    column = _Text()
    value = _Text(allow_null=True)
    record = _Text()
    key = _Text()


class ValueCountSerializer(serializers.Serializer[Any]):
    value = _Text()
    count = serializers.IntegerField()


class ValueCountsSerializer(serializers.Serializer[Any]):
    """What a column's values are."""

    values = serializers.IntegerField()
    nulls = serializers.IntegerField()
    distinct = serializers.IntegerField(allow_null=True)
    top = ValueCountSerializer(many=True)
    low = _Text(allow_null=True)
    high = _Text(allow_null=True)
    shortest = serializers.IntegerField(allow_null=True)
    longest = serializers.IntegerField(allow_null=True)


class SeenColumnSerializer(serializers.Serializer[Any]):
    """A column of a preview: of a file with the evidence for its type, of a table as the database declares it."""

    name = _Text()
    type = _Text()
    evidence = _Text(required=False)
    nulls = serializers.IntegerField(required=False)
    native = _Text(required=False)
    nullable = serializers.BooleanField(required=False)
    key = serializers.BooleanField(required=False)
    comment = _Text(required=False)
    counts = ValueCountsSerializer(required=False)


class StoredObjectSerializer(serializers.Serializer[Any]):
    """A table, view, file or sheet."""

    name = _Text()
    kind = _Text()
    size = serializers.IntegerField(required=False, allow_null=True, help_text="Of a file, in bytes.")
    modified = _Text(required=False, allow_null=True)
    rows = serializers.IntegerField(required=False, allow_null=True, help_text="The database's own estimate.")
    comment = _Text(required=False)


class UploadSerializer(serializers.Serializer[Any]):
    """Where an uploaded file landed."""

    connection = _Text()
    object = _Text()
    size = serializers.IntegerField(help_text="In bytes.")
    replaced = serializers.BooleanField(help_text="Whether a file of this name was there.")
