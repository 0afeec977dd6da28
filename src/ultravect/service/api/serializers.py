"""What the API takes and gives."""

from __future__ import annotations

from collections import Counter
from typing import Any

from drf_spectacular.utils import extend_schema_field
from pydantic import ValidationError
from rest_framework import serializers

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import dialects, kind_named, kinds, settings_of
from ultravect.core.model.base import Declared
from ultravect.core.model.document import job_from_data
from ultravect.core.model.problems import did_you_mean, problems_of
from ultravect.core.patterns import has_pattern
from ultravect.service.api.response_parts import (
    BadRowSerializer,
    CheckColumnSerializer,
    ErrorSerializer,
    FindingSerializer,
    PhaseSerializer,
    ProgressSerializer,
    RejectedRowSerializer,
    SeenColumnSerializer,
    StoredObjectSerializer,
    StrategySerializer,
    TallySerializer,
    TargetColumnSerializer,
    shaped,
)
from ultravect.service.records.models import (
    AuditEntry,
    Change,
    Connection,
    Job,
    Leg,
    Outcome,
    Reject,
    Role,
    Run,
    RunKind,
    SavedLayout,
    Slice,
    State,
    Token,
    User,
)
from ultravect.service.work.sites import HOME, SITE_PATTERN

NAME = r"^[a-z0-9]([a-z0-9_-]{0,62}[a-z0-9])?$"
_NAME_RULE = {"invalid": "a name has lower-case letters, digits, - and _, at most 64, a letter or digit first"}


class Text(serializers.CharField):
    """A text, and nothing that would have to be made into one."""

    def to_internal_value(self, data: Any) -> str:
        if not isinstance(data, str):
            self.fail("invalid")
        return str(super().to_internal_value(data))


class NamePattern(serializers.RegexField):
    """A text that matches a pattern."""

    def to_internal_value(self, data: Any) -> str:
        if not isinstance(data, str):
            self.fail("invalid")
        return str(super().to_internal_value(data))


class YesOrNo(serializers.BooleanField):
    """A truth value; as a word only where it comes in an address."""

    def to_internal_value(self, data: Any) -> bool:
        if not isinstance(data, bool | str):
            self.fail("invalid", input=data)
        return bool(super().to_internal_value(data))


class UserSerializer(serializers.ModelSerializer[User]):
    name = Text(source="username")
    role = serializers.ChoiceField(choices=Role.choices)

    class Meta:
        model = User
        fields = ["name", "role"]


class AccountSerializer(UserSerializer):
    active = YesOrNo(source="is_active")
    last_login = serializers.DateTimeField(allow_null=True)

    class Meta(UserSerializer.Meta):
        fields = [*UserSerializer.Meta.fields, "active", "last_login"]


class NewUserSerializer(serializers.Serializer[Any]):
    name = NamePattern(r"^[\w.@+-]{1,150}$", help_text="Letters, digits, and . @ + - _")
    role = serializers.ChoiceField(choices=Role.choices, default=Role.VIEWER)
    password = Text(trim_whitespace=False, write_only=True, max_length=1000)


class ChangeUserSerializer(serializers.Serializer[Any]):
    role = serializers.ChoiceField(choices=Role.choices, required=False)
    active = YesOrNo(required=False, help_text="false: the user cannot sign in, and has no tokens.")
    password = Text(required=False, trim_whitespace=False, write_only=True, max_length=1000)


class AuditEntrySerializer(serializers.ModelSerializer[AuditEntry]):
    detail = serializers.DictField()

    class Meta:
        model = AuditEntry
        fields = ["id", "at", "user", "address", "action", "kind", "name", "detail"]
        read_only_fields = fields


_SITE_RULE = {"invalid": "a site has lower-case letters, digits, - and _, at most 40, a letter or digit first"}


class SignInSerializer(serializers.Serializer[Any]):
    user = Text(max_length=150)
    password = Text(trim_whitespace=False, write_only=True, max_length=1000)


class TokenRequestSerializer(SignInSerializer):
    """With ``user`` and ``password``, or as the one signed in."""

    user = Text(required=False, max_length=150)
    password = Text(required=False, trim_whitespace=False, write_only=True, max_length=1000)
    label = Text(default="token", max_length=100)
    role = serializers.ChoiceField(
        choices=Role.choices,
        required=False,
        help_text="The most that the token may do; left out: all that its user may.",
    )
    days = serializers.IntegerField(
        required=False, min_value=1, max_value=3650, help_text="Days after which it expires; left out: never."
    )
    sites = serializers.ListField(
        child=NamePattern(SITE_PATTERN, error_messages=_SITE_RULE),
        required=False,
        max_length=20,
        help_text="For workers of these sites that join by HTTPS; such a token may do nothing else. Made by admins.",
    )

    def validate_sites(self, sites: list[str]) -> list[str]:
        if HOME in sites:
            raise serializers.ValidationError(
                f"the site {HOME!r} is the service's own place; give the worker's network a name of its own"
            )
        return sorted(set(sites))


class TokenSerializer(serializers.ModelSerializer[Token]):
    owner = Text(source="user.username")
    role = Text(help_text="The most that it may do; empty: all that its owner may.")
    sites = serializers.ListField(
        child=Text(), read_only=True, help_text="Of the workers that join with it; empty: it is for other programs."
    )

    class Meta:
        model = Token
        fields = ["id", "label", "owner", "role", "sites", "created_at", "used_at", "expires_at"]
        read_only_fields = ["id", "label", "created_at", "used_at", "expires_at"]


class NewTokenSerializer(TokenSerializer):
    token = Text(read_only=True, help_text="Shown this once.")
    user = UserSerializer(read_only=True)

    class Meta(TokenSerializer.Meta):
        fields = [*TokenSerializer.Meta.fields, "token", "user"]


class KindField(serializers.ChoiceField):
    """A kind of connection; another one is refused with the nearest, or with the reason why it cannot be used."""

    def to_internal_value(self, data: Any) -> Any:
        try:
            return kind_named(str(data)).name
        except UltravectError as error:
            raise serializers.ValidationError(f"{error.detail}; {error.hint}") from None


class ConnectionSerializer(serializers.ModelSerializer[Connection]):
    """Secrets are taken, and never given back; left out when changing, they stay as they are."""

    name = NamePattern(NAME, error_messages=_NAME_RULE)
    kind = KindField(choices=sorted(kinds()))
    settings = serializers.DictField()
    secrets_set = serializers.ListField(child=Text(), read_only=True)
    site = NamePattern(
        SITE_PATTERN,
        required=False,
        allow_blank=True,
        error_messages=_SITE_RULE,
        help_text="The network location whose workers reach it (`ultravect worker --site`); left out where all do.",
    )

    class Meta:
        model = Connection
        fields = ["name", "kind", "settings", "site", "secrets_set", "created_at", "changed_at"]
        read_only_fields = ["created_at", "changed_at"]

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

    def _store(self, connection: Connection, given: dict[str, Any]) -> Connection:
        model: type[Declared] = settings_of(connection.kind)
        try:
            connection.set_settings(given)
        except ValidationError as error:
            messages = {
                problem.pointer.lstrip("/") or "non_field_errors": [
                    f"{problem.message}; {problem.hint}" if problem.hint else problem.message
                ]
                for problem in problems_of(error, model, {})
            }
            raise serializers.ValidationError({"settings": messages}) from None
        connection.save()
        return connection

    def create(self, validated_data: dict[str, Any]) -> Connection:
        connection = Connection(
            name=validated_data["name"], kind=validated_data["kind"], site=validated_data.get("site", "")
        )
        return self._store(connection, validated_data["settings"])

    def update(self, instance: Connection, validated_data: dict[str, Any]) -> Connection:
        instance.site = validated_data.get("site", instance.site)
        return self._store(instance, validated_data.get("settings", {}))


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


class LegSerializer(serializers.ModelSerializer[Leg]):
    state = serializers.ChoiceField(choices=State.choices)
    phases = shaped(PhaseSerializer(many=True))
    progress = shaped(ProgressSerializer())
    tally = shaped(TallySerializer(allow_null=True))
    comparison = shaped(serializers.DictField(child=serializers.IntegerField(), allow_null=True))
    checksums = shaped(serializers.DictField(child=Text(), allow_null=True))
    object = Text(read_only=True, help_text='The object that it copies, of a job with many; "" otherwise.')
    outcome = serializers.ChoiceField(choices=Outcome.choices)
    slices = SliceSerializer(many=True, read_only=True)
    mark = shaped(MarkOfLegSerializer(allow_null=True))
    error = shaped(ErrorSerializer(allow_null=True))

    class Meta:
        model = Leg
        fields = [
            "number", "object", "source", "target", "state", "outcome", "error", "started_at", "ended_at", "attempts",
            "phases", "progress", "tally", "rows_before", "rows_after",
            "created_target", "rejected", "gone", "mark", "comparison", "checksums", "peak_memory", "strategy", "slices",
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
        help_text="load: what the job says; rejects: rows that the run `origin` rejected; undo: takes its load back.",
    )
    origin = serializers.IntegerField(source="origin_id", allow_null=True, read_only=True)
    started_by = Text(source="started_by.username", default=None, allow_null=True, read_only=True)
    error = shaped(ErrorSerializer(allow_null=True))

    class Meta:
        model = Run
        fields = [
            "id", "job", "revision", "state", "outcome", "started_by", "queued_at", "started_at", "first_row_at", "ended_at",
            "stop_requested", "error", "kind", "origin",
        ]  # fmt: skip
        read_only_fields = ["queued_at", "started_at", "first_row_at", "ended_at", "stop_requested"]


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


class JobSummarySerializer(serializers.ModelSerializer[Job]):
    about = serializers.SerializerMethodField()
    labels = serializers.SerializerMethodField()
    source = serializers.SerializerMethodField()
    target = serializers.SerializerMethodField()
    revision = serializers.IntegerField(source="revision.number")
    saved_at = serializers.DateTimeField(source="revision.saved_at")
    last_run = serializers.SerializerMethodField()

    class Meta:
        model = Job
        fields = ["name", "about", "labels", "source", "target", "revision", "saved_at", "last_run"]

    def get_about(self, job: Job) -> str:
        return str(job.revision.structure.get("about", ""))

    @extend_schema_field(serializers.ListField(child=Text()))
    def get_labels(self, job: Job) -> list[str]:
        return list(job.revision.structure.get("labels", []))

    def get_source(self, job: Job) -> str:
        return job_from_data(job.revision.structure).source.label

    def get_target(self, job: Job) -> str:
        return job_from_data(job.revision.structure).into.label

    @extend_schema_field(RunLineSerializer(allow_null=True))
    def get_last_run(self, job: Job) -> dict[str, Any] | None:
        # an undo is no run of the job: what was loaded last is wanted
        runs = job.runs.exclude(kind=RunKind.UNDO)
        run = runs.select_related("job", "revision", "started_by").prefetch_related("legs__slices").first()
        return dict(RunLineSerializer(run).data) if run else None


class JobSerializer(JobSummarySerializer):
    file = Text(source="revision.text", help_text="The job file as it was saved.")
    structure = shaped(serializers.DictField(help_text="The same as JSON."), source="revision.structure")

    class Meta(JobSummarySerializer.Meta):
        fields = [*JobSummarySerializer.Meta.fields, "file", "structure"]


class RevisionSerializer(serializers.Serializer[Any]):
    number = serializers.IntegerField()
    saved_at = serializers.DateTimeField()
    saved_by = Text(source="saved_by.username", default=None)
    file = Text(source="text")


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


def known_connection_hint(name: str) -> str:
    names = list(Connection.objects.values_list("name", flat=True))
    return did_you_mean(name, names) or f"connections here: {', '.join(names) or 'none yet'}"
