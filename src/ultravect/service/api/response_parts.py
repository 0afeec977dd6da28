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


class EditSerializer(serializers.Serializer[Any]):
    """The lines `old` of the job file, from number `line` on, become `new`; without `old`, `new` is put in before that line."""

    line = serializers.IntegerField(help_text="Counted from 1.")
    old = serializers.ListField(child=serializers.CharField())
    new = serializers.ListField(child=serializers.CharField())


class FindingSerializer(serializers.Serializer[Any]):
    severity = serializers.ChoiceField(["error", "warning", "note"])
    code = serializers.CharField()
    message = serializers.CharField()
    place = serializers.CharField(help_text="The key in the job file, empty when it is about the data.")
    fix = serializers.CharField()
    edit = EditSerializer(required=False, help_text="The fix in the job file's own lines.")


class ErrorSerializer(serializers.Serializer[Any]):
    """Why a run, or a test, failed."""

    code = serializers.CharField()
    detail = serializers.CharField()
    hint = serializers.CharField(help_text="What to do.")
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
    summary = serializers.CharField()
    why_not = serializers.DictField(
        child=serializers.CharField(), help_text="The quicker strategies, each with what stands in its way."
    )


class TypeChoiceSerializer(serializers.Serializer[Any]):
    type = serializers.CharField()
    native = serializers.CharField()
    fit = serializers.CharField()
    change = serializers.CharField()


class CheckColumnSerializer(serializers.Serializer[Any]):
    """A column from source to target; `choices` are other types that it can have, where the table is made."""

    source = serializers.CharField()
    name = serializers.CharField()
    type = serializers.CharField()
    native = serializers.CharField()
    fit = serializers.CharField()
    evidence = serializers.CharField()
    choices = TypeChoiceSerializer(many=True)


class TargetColumnSerializer(serializers.Serializer[Any]):
    source = serializers.CharField(help_text="Empty where an expression computes it.")
    name = serializers.CharField()
    type = serializers.CharField()
    native = serializers.CharField()


class BadRowSerializer(serializers.Serializer[Any]):
    row = serializers.IntegerField()
    line = serializers.IntegerField(allow_null=True)
    reason = serializers.CharField()


class RejectedRowSerializer(BadRowSerializer):
    """A row that a rehearsal would reject."""

    object = serializers.CharField()
    column = serializers.CharField()
    value = serializers.CharField(allow_null=True)
    record = serializers.CharField()
    key = serializers.CharField()


class ValueCountSerializer(serializers.Serializer[Any]):
    value = serializers.CharField()
    count = serializers.IntegerField()


class BinSerializer(serializers.Serializer[Any]):
    """A part of the range of a column's values."""

    low = serializers.CharField()
    high = serializers.CharField()
    count = serializers.IntegerField()


class ValueCountsSerializer(serializers.Serializer[Any]):
    """What a column's values are."""

    values = serializers.IntegerField()
    nulls = serializers.IntegerField()
    distinct = serializers.IntegerField(allow_null=True)
    top = ValueCountSerializer(many=True)
    low = serializers.CharField(allow_null=True)
    high = serializers.CharField(allow_null=True)
    shortest = serializers.IntegerField(allow_null=True)
    longest = serializers.IntegerField(allow_null=True)
    bins = BinSerializer(
        many=True,
        allow_null=True,
        help_text="How the first 10,000 values are spread over their range; null where that cannot be drawn.",
    )


class SeenColumnSerializer(serializers.Serializer[Any]):
    """A column of a preview: of a file with the evidence for its type, of a table as the database declares it."""

    name = serializers.CharField()
    type = serializers.CharField()
    evidence = serializers.CharField(required=False)
    nulls = serializers.IntegerField(required=False)
    native = serializers.CharField(required=False)
    nullable = serializers.BooleanField(required=False)
    key = serializers.BooleanField(required=False)
    comment = serializers.CharField(required=False)
    counts = ValueCountsSerializer(required=False)


class StoredObjectSerializer(serializers.Serializer[Any]):
    """A table, view, file, sheet, or files that are alike."""

    name = serializers.CharField()
    kind = serializers.CharField()
    size = serializers.IntegerField(
        required=False,
        allow_null=True,
        help_text="In bytes; of a table, the database's own estimate, where it has one.",
    )
    modified = serializers.CharField(required=False, allow_null=True)
    files = serializers.IntegerField(
        required=False, help_text="How many files the pattern `name` matches, of kind files."
    )
    rows = serializers.IntegerField(required=False, allow_null=True, help_text="The database's own estimate.")
    comment = serializers.CharField(required=False)


class UploadSerializer(serializers.Serializer[Any]):
    """Where an uploaded file landed."""

    connection = serializers.CharField()
    object = serializers.CharField()
    size = serializers.IntegerField(help_text="In bytes.")
    replaced = serializers.BooleanField(help_text="Whether a file of this name was there.")
