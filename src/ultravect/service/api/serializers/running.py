"""Runs, their legs and slices, rejects, changes and marks."""

from __future__ import annotations

from collections import Counter
from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from ultravect.service.api.response_parts import (
    ErrorSerializer,
    PhaseSerializer,
    ProgressSerializer,
    TallySerializer,
    shaped,
)
from ultravect.service.api.serializers.common import Text
from ultravect.service.records.models import Change, Leg, Outcome, Reject, Run, RunKind, Slice, State, Trigger


class MarkOfLegSerializer(serializers.Serializer[Any]):
    """Where a leg began and ended, of a job that copies what is new."""

    object = Text()
    summary = Text(help_text="Where it began, for a reader.")
    column = Text(required=False)
    before = Text(required=False, allow_null=True, help_text="The mark of the column as it was; null for none.")
    after = Text(required=False, help_text="As the load has left it.")
    files = serializers.IntegerField(required=False, help_text="How many files it has noted.")


class SliceSerializer(serializers.ModelSerializer[Slice]):
    label = Text(read_only=True, help_text="Which rows it copies.")
    state = serializers.ChoiceField(choices=State.choices)
    progress = shaped(ProgressSerializer())
    error = shaped(ErrorSerializer(allow_null=True))

    class Meta:
        model = Slice
        fields = [
            "number", "label", "state", "worker", "attempts", "progress", "started_at", "ended_at", "error",
        ]  # fmt: skip
        read_only_fields = fields


class GuardSerializer(serializers.Serializer[Any]):
    """A guard of the job, and what was found."""

    name = Text(help_text="What it is about.")
    value = Text()
    limit = Text(help_text="What it may be.")
    passed = serializers.BooleanField(allow_null=True, help_text="null: it could not be decided.")


class StatementSerializer(serializers.Serializer[Any]):
    """A statement that the leg ran in a database; values are left out of its text."""

    text = Text()
    count = serializers.IntegerField(help_text="How often it ran.")
    seconds = serializers.FloatField(help_text="All together.")
    rows = serializers.IntegerField(help_text="Which it gave or changed, all together.")


class LegSerializer(serializers.ModelSerializer[Leg]):
    state = serializers.ChoiceField(choices=State.choices)
    phases = shaped(PhaseSerializer(many=True))
    progress = shaped(ProgressSerializer())
    pace = shaped(
        serializers.ListField(
            child=serializers.ListField(child=serializers.FloatField()),
            help_text="Seconds since the leg started, and the rows that it had read by then: some points of its time.",
        )
    )
    tally = shaped(TallySerializer(allow_null=True))
    comparison = shaped(serializers.DictField(child=serializers.IntegerField(), allow_null=True))
    checksums = shaped(serializers.DictField(child=Text(), allow_null=True))
    guards = shaped(GuardSerializer(many=True, allow_null=True))
    object = Text(read_only=True, help_text='The object that it copies, of a job with many; "" otherwise.')
    outcome = serializers.ChoiceField(choices=Outcome.choices)
    slices = SliceSerializer(many=True, read_only=True)
    mark = shaped(MarkOfLegSerializer(allow_null=True))
    error = shaped(ErrorSerializer(allow_null=True))
    statements = shaped(StatementSerializer(many=True))

    class Meta:
        model = Leg
        fields = [
            "number", "object", "source", "target", "state", "outcome", "error", "started_at", "ended_at", "attempts",
            "phases", "progress", "pace", "tally", "rows_before", "rows_after", "rows_about",
            "created_target", "rejected", "gone", "mark", "comparison", "checksums", "guards", "peak_memory", "strategy", "slices",
            "statements",
        ]  # fmt: skip
        read_only_fields = fields


class RunSummarySerializer(serializers.ModelSerializer[Run]):
    job = Text(source="job.name")
    revision = serializers.IntegerField(source="revision.number")
    state = serializers.ChoiceField(choices=State.choices)
    outcome = serializers.ChoiceField(
        choices=Outcome.choices,
        help_text="What the run has left in its target, whatever its state: a run can fail after its rows are committed. "
        "unknown: the target has not answered yet, and is asked again.",
    )
    kind = serializers.ChoiceField(
        choices=RunKind.choices,
        help_text="load: what the job says; rejects: rows that the run `origin` rejected; undo: takes its load back; "
        "repair: rows that a comparison has found to differ.",
    )
    trigger = serializers.ChoiceField(
        choices=Trigger.choices,
        help_text="hand: someone, or a program; schedule: its time had come; after: jobs that it waits for had succeeded; fill: past "
        "times of its schedule.",
        read_only=True,
    )
    origin = serializers.IntegerField(source="origin_id", allow_null=True, read_only=True)
    started_by = Text(source="started_by.username", default=None, allow_null=True, read_only=True)
    error = shaped(ErrorSerializer(allow_null=True))

    class Meta:
        model = Run
        fields = [
            "id", "job", "revision", "state", "outcome", "started_by", "queued_at", "started_at", "first_row_at", "ended_at",
            "stop_requested", "error", "kind", "origin", "trigger", "scheduled_for",
        ]  # fmt: skip
        read_only_fields = ["scheduled_for", "queued_at", "started_at", "first_row_at", "ended_at", "stop_requested"]


class FollowUpSerializer(serializers.ModelSerializer[Run]):
    state = serializers.ChoiceField(choices=State.choices)
    kind = serializers.ChoiceField(choices=RunKind.choices)

    class Meta:
        model = Run
        fields = ["id", "kind", "state"]


class RunSerializer(RunSummarySerializer):
    legs = LegSerializer(many=True)
    file = Text(source="revision.text", help_text="The job file as it was run.")
    parameters = shaped(serializers.DictField())
    followed_by = FollowUpSerializer(many=True, help_text="Runs that loaded its rejects, or undid it.")

    class Meta(RunSummarySerializer.Meta):
        fields = [*RunSummarySerializer.Meta.fields, "legs", "file", "parameters", "attempts", "followed_by"]
        read_only_fields = [*RunSummarySerializer.Meta.read_only_fields, "attempts"]


class DifferenceSerializer(serializers.Serializer[Any]):
    part = serializers.ChoiceField(choices=["start", "plan", "result", "time"])
    leg = Text(help_text='The object of a leg; "" for the run, and where it has one leg.')
    name = Text()
    before = Text()
    after = Text()


class DifferencesSerializer(serializers.Serializer[Any]):
    """How a run differs from an earlier one."""

    before = RunSummarySerializer()
    after = RunSummarySerializer()
    file = serializers.ListField(
        child=Text(), help_text="What became of the job file: lines that begin with - or +, with some around them."
    )
    items = DifferenceSerializer(many=True, help_text="What is not the same; times are there in any case.")


class DifferencesInputSerializer(serializers.Serializer[Any]):
    earlier = serializers.IntegerField(
        required=False, min_value=1, help_text="The run to compare with; left out: the job's last one before."
    )


class RunLineSerializer(RunSummarySerializer):
    """A run in a list, with the tally of its legs added up."""

    tally = serializers.SerializerMethodField()

    legs = serializers.SerializerMethodField(help_text="How many legs it has, by their state.")

    class Meta(RunSummarySerializer.Meta):
        fields = [*RunSummarySerializer.Meta.fields, "tally", "legs"]

    @extend_schema_field(serializers.DictField(child=serializers.IntegerField()))
    def get_legs(self, run: Run) -> dict[str, int]:
        return dict(Counter(leg.state for leg in run.legs.all()))

    @extend_schema_field(TallySerializer(allow_null=True))
    def get_tally(self, run: Run) -> dict[str, int] | None:
        tallies = [leg.tally for leg in run.legs.all() if leg.tally]
        return {key: sum(tally[key] for tally in tallies) for key in tallies[0]} if tallies else None


class LegInputSerializer(serializers.Serializer[Any]):
    leg = serializers.IntegerField(required=False, min_value=1, help_text="The number of a leg.")


class RangeSerializer(serializers.Serializer[Any]):
    to = Text(help_text="The last value, included; of a day, all of it.")

    def get_fields(self) -> dict[str, Any]:
        # `from` is a word of the language
        return {"from": Text(help_text="The first value, included."), **super().get_fields()}


class MarkSerializer(serializers.Serializer[Any]):
    """How far a job has copied one object, as its target keeps it."""

    object = Text()
    target = Text()
    column = Text(help_text='The column that the mark is kept by; "" where files are noted.')
    value = Text(help_text='The highest value that was copied; "" where there is no mark yet.')
    files = serializers.IntegerField(help_text="How many files were copied.")
    names = serializers.ListField(child=Text(), help_text="Some of the files, sorted.")


class MarkInputSerializer(serializers.Serializer[Any]):
    object = Text(required=False, help_text="Of a job with many objects, which. Left out: all.")


class SetMarkSerializer(MarkInputSerializer):
    value = Text(help_text="The next run begins above it.")


class RunInputSerializer(serializers.Serializer[Any]):
    again = RangeSerializer(
        required=False,
        help_text="Of a job that copies what is new by a column: this range is copied anew, and the mark stays where it is.",
    )
    only = serializers.ListField(
        child=Text(),
        required=False,
        allow_empty=False,
        help_text="Of a job with many objects, those to be copied, by their names. Left out: all.",
    )
    parameters = serializers.DictField(
        default=dict, help_text="Values for the job's parameters, other than those in its file."
    )


class RejectSerializer(serializers.ModelSerializer[Reject]):
    leg = serializers.IntegerField(source="leg.number")

    class Meta:
        model = Reject
        fields = ["leg", "object", "row", "line", "column", "value", "reason", "record", "key"]
        read_only_fields = fields


class RejectsInputSerializer(LegInputSerializer):
    """Which rejects are meant; all of them unless it says otherwise."""

    column = Text(
        required=False, allow_blank=True, help_text="Of this column; empty: those that are about no single column."
    )
    object = Text(required=False, help_text="Of this file or table.")
    search = Text(required=False, help_text="With this in reason, value or row.")


class ChangeSerializer(serializers.ModelSerializer[Change]):
    leg = serializers.IntegerField(source="leg.number")
    kind = serializers.ChoiceField(
        choices=["updated", "added", "gone", "repeated"],
        help_text="updated: a row before and after. added, gone: rows that only the new or the old content of an "
        "overwritten table has. repeated: a row that was dropped, and the one of its key that won.",
    )
    columns = serializers.ListField(child=Text())
    before = serializers.ListField(child=Text(allow_null=True), allow_null=True)
    after = serializers.ListField(child=Text(allow_null=True), allow_null=True)

    class Meta:
        model = Change
        fields = ["leg", "kind", "columns", "before", "after"]
