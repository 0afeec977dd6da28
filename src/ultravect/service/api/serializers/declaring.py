"""Jobs, and what is said of them before they run: checks, rehearsals, drafts."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

from django.db.models import OuterRef, Subquery
from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from ultravect.core.patterns import has_pattern
from ultravect.service.api.response_parts import (
    CheckColumnSerializer,
    FindingSerializer,
    RejectedRowSerializer,
    StrategySerializer,
    TargetColumnSerializer,
    shaped,
)
from ultravect.service.api.serializers.common import Text, YesOrNo
from ultravect.service.api.serializers.running import RunLineSerializer
from ultravect.service.records.lookup import model_of
from ultravect.service.records.models import Job, Run, RunKind, Stream
from ultravect.service.records.resolved import follows_log


def last_runs(jobs: Sequence[Job]) -> dict[int, Run]:
    """The last run of each job; an undo is none: what was loaded last is wanted."""
    newest = Run.objects.filter(job_id=OuterRef("pk")).exclude(kind=RunKind.UNDO).order_by("-id").values("pk")[:1]
    listed = Job.objects.filter(pk__in=[job.pk for job in jobs]).annotate(last=Subquery(newest))
    numbers = [number for number in listed.values_list("last", flat=True) if number]
    found = Run.objects.filter(pk__in=numbers).select_related("job", "revision", "started_by")
    return {run.job_id: run for run in found.prefetch_related("legs__slices")}


class JobSummarySerializer(serializers.ModelSerializer[Job]):
    about = serializers.SerializerMethodField()
    labels = serializers.SerializerMethodField()
    source = serializers.SerializerMethodField()
    target = serializers.SerializerMethodField()
    revision = serializers.IntegerField(source="revision.number")
    saved_at = serializers.DateTimeField(source="revision.saved_at")
    last_run = serializers.SerializerMethodField()
    stream = serializers.SerializerMethodField(
        help_text="The state of its stream, of a job that follows a log: `not started` where it has none yet; null of other jobs."
    )

    class Meta:
        model = Job
        fields = ["name", "about", "labels", "source", "target", "revision", "saved_at", "last_run", "stream"]

    def get_about(self, job: Job) -> str:
        return str(job.revision.structure.get("about", ""))

    @extend_schema_field(serializers.ListField(child=Text()))
    def get_labels(self, job: Job) -> list[str]:
        return list(job.revision.structure.get("labels", []))

    def get_source(self, job: Job) -> str:
        return model_of(job.revision).source.label

    def get_target(self, job: Job) -> str:
        return model_of(job.revision).into.label

    def get_stream(self, job: Job) -> str | None:
        if not follows_log(job.revision.structure):
            return None
        stream: Stream | None = getattr(job, "stream", None)
        return stream.state if stream is not None else "not started"

    @extend_schema_field(RunLineSerializer(allow_null=True))
    def get_last_run(self, job: Job) -> dict[str, Any] | None:
        listed: dict[int, Run] | None = self.context.get("last_runs")
        run = (listed if listed is not None else last_runs([job])).get(job.pk)
        return dict(self._line.to_representation(run)) if run else None

    @cached_property
    def _line(self) -> RunLineSerializer:
        # its fields are made once for all jobs of a page
        return RunLineSerializer()


class JobSerializer(JobSummarySerializer):
    file = Text(source="revision.text", help_text="The job file as it was saved.")
    structure = shaped(serializers.DictField(help_text="The same as JSON."), source="revision.structure")
    is_stream = serializers.SerializerMethodField(
        help_text="Whether it follows the log of its source, and is not run."
    )
    has_stream = serializers.SerializerMethodField(help_text="Whether its stream was started.")

    class Meta(JobSummarySerializer.Meta):
        fields = [*JobSummarySerializer.Meta.fields, "file", "structure", "is_stream", "has_stream"]

    def get_is_stream(self, job: Job) -> bool:
        return follows_log(job.revision.structure)

    def get_has_stream(self, job: Job) -> bool:
        return Stream.objects.filter(job=job).exists()


class RevisionSerializer(serializers.Serializer[Any]):
    number = serializers.IntegerField()
    saved_at = serializers.DateTimeField()
    saved_by = Text(source="saved_by.username", default=None)
    file = Text(source="text")


class CheckedLegSerializer(serializers.Serializer[Any]):
    """A leg of a job with many objects, as it was checked."""

    number = serializers.IntegerField()
    object = Text()
    target = Text()
    target_exists = YesOrNo()
    passed = YesOrNo()
    fit = Text(help_text='The worst fit of its columns: different, narrower, wider or exact; "" where there is none.')
    columns = serializers.IntegerField(help_text="How many.")
    rows_tried = serializers.IntegerField()
    strategy = StrategySerializer(allow_null=True)
    findings = FindingSerializer(many=True)


class CheckSerializer(serializers.Serializer[Any]):
    passed = YesOrNo()
    legs = CheckedLegSerializer(many=True, help_text="Of a job with many objects, the worst first; none otherwise.")
    findings = FindingSerializer(many=True)
    columns = CheckColumnSerializer(many=True)
    ddl = Text(allow_null=True, help_text="What a run would execute to create or change the target.")
    source_sql = Text(allow_null=True, help_text="What a run would ask the source, when it is a database.")
    effect = Text(help_text="What the job's mode would do to the target as it is now.")
    target_sql = serializers.ListField(
        child=Text(),
        help_text="Statements that do what a run would do in the target in addition to loading rows.",
    )
    target = Text()
    target_exists = YesOrNo()
    rows_tried = serializers.IntegerField()
    strategy = StrategySerializer(
        allow_null=True, help_text="How a run would write the rows; null where nothing can run."
    )


class RehearsalInputSerializer(serializers.Serializer[Any]):
    rows = serializers.IntegerField(
        default=1000, min_value=1, max_value=1_000_000, help_text="How many rows to try, at least."
    )
    all = YesOrNo(default=False, help_text="Try all rows.")
    object = Text(required=False, help_text="Which object is rehearsed, of a job with many. Left out: the first.")


class RehearsalStepSerializer(serializers.Serializer[Any]):
    step = Text()
    rows_in = serializers.IntegerField()
    rows_out = serializers.IntegerField()
    rejected = serializers.IntegerField()


class RehearsedRowSerializer(serializers.Serializer[Any]):
    row = serializers.IntegerField()
    before = serializers.ListField(child=Text(allow_null=True))
    after = serializers.ListField(child=Text(allow_null=True))


class RehearsalSerializer(serializers.Serializer[Any]):
    passed = YesOrNo()
    would_fail = Text(help_text="Why a run would fail, empty when it would not.")
    complete = YesOrNo(help_text="Whether all rows were tried.")
    steps = RehearsalStepSerializer(many=True)
    source_columns = serializers.ListField(child=Text())
    target_columns = TargetColumnSerializer(many=True)
    rows = RehearsedRowSerializer(many=True)
    rejects = RejectedRowSerializer(many=True)
    findings = FindingSerializer(many=True)


class DraftInputSerializer(serializers.Serializer[Any]):
    from_connection = Text()
    from_object = Text(
        required=False, help_text="A table, a view, a file, a sheet such as book.xlsx/June, or a pattern of files."
    )
    from_objects = serializers.ListField(
        child=Text(), default=list, help_text="In place of an object: many, by their names or patterns; a leg each."
    )
    query = Text(required=False, help_text="In place of an object: one statement that reads.")
    layout = serializers.JSONField(required=False, allow_null=True, help_text="A layout, or the name of a saved one.")
    into_connection = Text()
    into_object = Text(help_text="A table, or the path of a file.")
    mode = serializers.ChoiceField(["append", "overwrite", "upsert"], default="append")
    keys = serializers.ListField(child=Text(), default=list, help_text="What an upsert matches by.")

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        named = [key for key in ("from_object", "from_objects", "query") if attrs.get(key)]
        if len(named) != 1:
            raise serializers.ValidationError("say what to copy: an object, many objects, or a query")
        many = attrs["from_objects"] or has_pattern(attrs.get("from_object", ""))
        if attrs["mode"] == "upsert" and not attrs["keys"] and not many:
            raise serializers.ValidationError("say by which keys the upsert matches")
        return attrs


class DraftSerializer(serializers.Serializer[Any]):
    file = Text(help_text="A job file with comments.")
