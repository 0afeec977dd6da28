"""Which job reads and writes what, and which column came from which."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from ultravect.service.api.serializers.common import Text, YesOrNo


class MapObjectSerializer(serializers.Serializer[Any]):
    id = Text(help_text="connection:name")
    connection = Text()
    name = Text()
    is_query = YesOrNo()


class MapJobSerializer(serializers.Serializer[Any]):
    name = Text()
    reads = serializers.ListField(child=Text(), help_text="Ids of objects.")
    writes = serializers.ListField(child=Text())
    after = serializers.ListField(child=Text(), help_text="Jobs for which it waits, by run.after.")
    state = Text(help_text='Of its last run or of its stream; "" where it was never run.')
    run = serializers.IntegerField(allow_null=True, help_text="Its last run.")
    at = serializers.DateTimeField(allow_null=True, help_text="When that ended, or since when the stream is so.")
    is_stream = YesOrNo()


class MapSerializer(serializers.Serializer[Any]):
    objects = MapObjectSerializer(many=True)
    jobs = MapJobSerializer(many=True)
    same = serializers.ListField(
        child=serializers.ListField(child=Text()),
        help_text="Pairs of ids: files that a job writes by a name with placeholders, and the pattern by which another one reads them.",
    )


class ColumnStepSerializer(serializers.Serializer[Any]):
    """One column of a target, and the columns that its job makes it of."""

    job = Text()
    source = Text(help_text="The id of the object that is read.")
    source_columns = serializers.ListField(child=Text())
    target = Text()
    target_column = Text()
    expression = Text(help_text='The item of the select list, "" where the column is copied as it is.')


class ColumnStepsSerializer(serializers.Serializer[Any]):
    steps = ColumnStepSerializer(
        many=True, help_text="First what it comes from, then what is made of it, the nearest first."
    )
