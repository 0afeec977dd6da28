"""Streams: what is given and taken."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from ultravect.service.api.response_parts import ErrorSerializer, shaped
from ultravect.service.api.serializers.common import Text, YesOrNo
from ultravect.service.records.models import Stream, StreamEvent, StreamMinute, StreamReject, StreamState

_COUNTS = ("rows", "changes", "inserted", "updated", "unchanged", "deleted", "rejected")
_EVENTS = 100


class StreamTableSerializer(serializers.Serializer[Any]):
    """A table of a stream, and what came of its changes so far."""

    object = serializers.CharField()
    state = serializers.ChoiceField(["waiting", "snapshot", "following"])
    rows = serializers.IntegerField(help_text="Of its snapshot, so far.")
    changes = serializers.IntegerField(
        help_text="As the source made them; those of one row within a window are written once."
    )
    inserted = serializers.IntegerField()
    updated = serializers.IntegerField()
    unchanged = serializers.IntegerField()
    deleted = serializers.IntegerField(help_text="Or flagged.")
    rejected = serializers.IntegerField()


class StreamEventSerializer(serializers.ModelSerializer[StreamEvent]):
    class Meta:
        model = StreamEvent
        fields = ("at", "level", "text")


class StreamLineSerializer(serializers.Serializer[Stream]):
    """A stream in a list."""

    job = Text(source="job.name")
    state = serializers.ChoiceField(StreamState.choices)
    since = serializers.DateTimeField(source="changed_at", help_text="Since when it is in this state.")
    source = serializers.SerializerMethodField()
    target = serializers.SerializerMethodField()
    revision = serializers.IntegerField(
        source="revision.number", help_text="Of the job, as which it runs or ran last."
    )
    newest_revision = serializers.IntegerField(
        source="job.revision.number", help_text="Of the job as it is now: resume takes it."
    )
    started_by = serializers.CharField(source="started_by.username", default=None, allow_null=True)
    worker = Text()
    position = Text(help_text="Up to which the target has the log, as the source writes it.")
    lag = serializers.FloatField(
        allow_null=True, help_text="How many seconds the target came after its source, when that was last seen."
    )
    lag_at = serializers.DateTimeField(allow_null=True)
    log_kept = serializers.IntegerField(
        allow_null=True, help_text="Bytes of its log that the source kept for it, when that was last seen."
    )
    tables = serializers.SerializerMethodField()
    error = shaped(ErrorSerializer(allow_null=True))

    @extend_schema_field(serializers.CharField())
    def get_source(self, stream: Stream) -> str:
        structure = stream.revision.structure["from"]
        return f"{structure['connection']}:{structure.get('table') or ', '.join(structure.get('tables') or [])}"

    @extend_schema_field(serializers.CharField())
    def get_target(self, stream: Stream) -> str:
        into = stream.revision.structure["into"]
        return f"{into['connection']}:{into['table']}"

    @extend_schema_field(StreamTableSerializer(many=True))
    def get_tables(self, stream: Stream) -> list[dict[str, Any]]:
        return [
            {
                "object": name,
                "state": table.get("state", "waiting"),
                **{count: int(table.get(count) or 0) for count in _COUNTS},
            }
            for name, table in sorted(stream.tables.items())
        ]


class StreamSerializer(StreamLineSerializer):
    """A stream, with what was said of it, the newest first."""

    events = serializers.SerializerMethodField()

    @extend_schema_field(StreamEventSerializer(many=True))
    def get_events(self, stream: Stream) -> list[dict[str, Any]]:
        return [dict(item) for item in StreamEventSerializer(stream.events.all()[:_EVENTS], many=True).data]  # type: ignore[arg-type]


class StreamMinuteSerializer(serializers.Serializer[StreamMinute]):
    """What a stream did in a minute."""

    minute = serializers.DateTimeField()
    changes = serializers.IntegerField()
    inserted = serializers.IntegerField()
    updated = serializers.IntegerField()
    deleted = serializers.IntegerField()
    rejected = serializers.IntegerField()
    windows = serializers.IntegerField()
    lag = serializers.FloatField(help_text="The longest, in seconds.")


class StreamRejectSerializer(serializers.ModelSerializer[StreamReject]):
    """A change that did not fit the target."""

    class Meta:
        model = StreamReject
        fields = ("at", "object", "column", "value", "reason", "record", "key")


class MinutesInputSerializer(serializers.Serializer[Any]):
    hours = serializers.FloatField(default=1.0, min_value=0.1, max_value=336, help_text="How far back.")


class HaltSerializer(serializers.Serializer[Any]):
    why = serializers.CharField(max_length=500, default="", allow_blank=True, help_text="For those who wonder.")


class RemoveStreamSerializer(serializers.Serializer[Any]):
    leave = YesOrNo(
        default=False,
        help_text="Leaves at the source what it keeps for the stream: where it cannot be reached any more.",
    )
