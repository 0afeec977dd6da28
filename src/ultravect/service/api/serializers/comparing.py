"""What is said of two sides that are compared."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from ultravect.service.api.response_parts import FindingSerializer
from ultravect.service.api.serializers.common import Text, YesOrNo

_NAMES = 200
_EXPRESSION = 10_000


class CompareInputSerializer(serializers.Serializer[Any]):
    keys = serializers.ListField(
        child=Text(),
        default=list,
        max_length=_NAMES,
        help_text="Columns of the target by which rows are the same one. Left out: those of the job, or the target's primary key.",
    )
    columns = serializers.ListField(
        child=Text(), default=list, help_text="Columns that are compared. Left out: all that both sides have."
    )
    where = Text(
        default="",
        allow_blank=True,
        max_length=_EXPRESSION,
        help_text="Only rows for which this expression about the target's columns is true.",
    )
    settle_seconds = serializers.FloatField(
        default=2.0, min_value=0, max_value=600, help_text="After which rows that differ are looked at once more."
    )


class CompareJobInputSerializer(CompareInputSerializer):
    object = Text(
        default="", allow_blank=True, help_text="Which object is compared, of a job with many. Left out: the first."
    )
    repair = YesOrNo(
        default=False,
        help_text="Whether rows that differ are then loaded, by a run of the job; it goes with no `where` and no `columns`.",
    )

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        if attrs["repair"] and (attrs["where"] or attrs["columns"]):
            raise serializers.ValidationError(
                {"repair": ["whole rows are loaded, of the whole table: leave out where and columns"]}
            )
        return attrs


class CompareObjectsInputSerializer(CompareInputSerializer):
    source_connection = Text()
    source_object = Text(help_text="A table, a view, a file, or a pattern of files.")
    target_connection = Text()
    target_object = Text(help_text="What it is compared with.")


class ComparedValueSerializer(serializers.Serializer[Any]):
    source = Text(allow_null=True)
    target = Text(allow_null=True)


class ComparedRowSerializer(serializers.Serializer[Any]):
    where = serializers.ChoiceField(["source", "target", "both"], help_text="Which side has the row.")
    keys = serializers.DictField(child=Text(allow_null=True))
    values = serializers.DictField(
        child=ComparedValueSerializer(), help_text="By column: of a row on both sides, those that differ."
    )


class ComparisonSerializer(serializers.Serializer[Any]):
    equal = YesOrNo()
    complete = YesOrNo(help_text="Whether the counts are of all rows that differ; else of the first that were found.")
    keys = serializers.ListField(child=Text())
    columns = serializers.ListField(child=Text(), help_text="What was compared, the keys among them.")
    rows_source = serializers.IntegerField()
    rows_target = serializers.IntegerField()
    rejected = serializers.IntegerField(help_text="Rows of the source that do not fit into the target.")
    only_source = serializers.IntegerField()
    only_target = serializers.IntegerField()
    different = serializers.IntegerField()
    differences = ComparedRowSerializer(many=True, help_text="At most 1,000 of them, by their keys.")
    findings = FindingSerializer(many=True, help_text="What is not compared, or not exactly.")


class JobComparisonSerializer(ComparisonSerializer):
    run = serializers.IntegerField(
        allow_null=True, help_text="The run that loads the rows that differ, where that was asked for."
    )
