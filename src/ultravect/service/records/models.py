"""The records, in the service's own PostgreSQL database."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import secrets
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, TypeVar

from django.conf import settings
from django.contrib.auth.models import AbstractUser
from django.db import models
from django.utils import timezone

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.secrets import SecretPlaces, needed_variables
from ultravect.core.engine.run.leg import COMMITTED, NOTHING, UNKNOWN
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import borrowed, settings_of
from ultravect.core.model.connection import machine_keys, secret_keys
from ultravect.service.sealing import SealBroken


class Role(models.TextChoices):
    """What a user may do; each includes the ones before it."""

    VIEWER = "viewer"
    OPERATOR = "operator"
    EDITOR = "editor"
    ADMIN = "admin"

    @property
    def rank(self) -> int:
        return list(Role).index(self)


class User(AbstractUser):
    """Someone who signs in. ``is_active`` false: disabled."""

    role = models.CharField(max_length=16, choices=Role.choices, default=Role.VIEWER)
    only_jobs: Sequence[str] = ()
    """Of a token that may only start and see runs of these jobs; empty for all others."""

    limited_to: Role | None = None
    """The role of the token that this request came with, where that is not to do all that its user may."""

    @property
    def effective_role(self) -> Role:
        own = Role(self.role)
        return min(own, self.limited_to, key=lambda role: role.rank) if self.limited_to else own

    def may(self, role: Role) -> bool:
        """Whether all that takes a role is allowed: never with a token that is for single jobs."""
        return self.is_active and not self.only_jobs and self.effective_role.rank >= role.rank


class Token(models.Model):
    """A key for programs, kept as a hash: the token itself is shown once."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="tokens")
    label = models.CharField(max_length=100)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True)
    role = models.CharField(max_length=16, choices=Role.choices, blank=True, default="")
    """The most that the token may do, whatever its user may; "" for all that the user may."""

    sites = models.JSONField(default=list)
    """The sites of the workers that join with it, by HTTPS; such a token may do nothing else. Empty for other tokens."""

    jobs = models.JSONField(default=list)
    """The jobs whose runs it may start and see; such a token may do nothing else. Empty for other tokens."""

    expires_at = models.DateTimeField(null=True)

    @property
    def expired(self) -> bool:
        return self.expires_at is not None and self.expires_at <= timezone.now()

    @staticmethod
    def digest_of(token: str) -> str:
        return hashlib.sha256(token.encode()).hexdigest()

    @classmethod
    def issue(
        cls,
        user: User,
        label: str,
        role: str = "",
        expires_at: dt.datetime | None = None,
        sites: Sequence[str] = (),
        jobs: Sequence[str] = (),
    ) -> tuple[Token, str]:
        """A new token, and its text."""
        text = f"uv_{secrets.token_urlsafe(32)}"
        made = cls.objects.create(
            user=user,
            label=label,
            digest=cls.digest_of(text),
            role=role,
            expires_at=expires_at,
            sites=list(sites),
            jobs=list(jobs),
        )
        return made, text


class SignInAttempt(models.Model):
    """A sign-in that was tried and has not succeeded: ``key`` is an account or an address."""

    key = models.CharField(max_length=200)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        indexes: ClassVar = [models.Index(fields=["key", "at"])]


class AuditEntry(models.Model):
    """Who did what to which record, and from where. Never changed; users and records may be gone since."""

    at = models.DateTimeField(auto_now_add=True)
    user = models.CharField(max_length=150)
    address = models.CharField(max_length=64, blank=True, default="")
    action = models.CharField(max_length=32)
    kind = models.CharField(max_length=32)
    name = models.CharField(max_length=200)
    detail = models.JSONField(default=dict)

    class Meta:
        ordering: ClassVar = ["-id"]
        indexes: ClassVar = [models.Index(fields=["kind", "name", "-id"])]


UPLOADS_NAME = "uploads"


class SecretsNeeded(Exception):
    """``keys`` must be given anew, because ``moved`` settings now lead to another place."""

    def __init__(self, keys: list[str], moved: list[str]) -> None:
        super().__init__()
        self.keys, self.moved = keys, moved


class Connection(models.Model):
    """A named place; its secret settings are sealed apart from the others."""

    name = models.CharField(max_length=64, unique=True)
    kind = models.CharField(max_length=32)
    settings = models.JSONField(default=dict)
    sealed = models.TextField(blank=True, default="")
    site = models.CharField(max_length=40, blank=True, default="")
    """The network location whose workers reach it; "" where all do, or where it is one of local paths: see ``sites``."""

    at_most = models.PositiveIntegerField(null=True)
    """How many legs may use it at once; None: as many as there are places of workers."""

    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering: ClassVar = ["name"]

    def _require_secrets(self, given: dict[str, Any]) -> None:
        """Raises SecretsNeeded when settings lead elsewhere, and secrets that were given for the place before would follow."""
        known = settings_of(self.kind).model_validate(dict(self.settings))
        whole = settings_of(self.kind).model_validate({**self.settings, **given})
        kept = {
            *self.secrets_set,
            *(key for key in secret_keys(settings_of(self.kind)) if self.settings.get(key)),
        } - given.keys()
        moved = [key for key in machine_keys(settings_of(self.kind)) if getattr(known, key) != getattr(whole, key)]
        if getattr(known, "tls", "") == "verified" != getattr(whole, "tls", ""):
            moved.append("tls")
        if moved and kept:
            raise SecretsNeeded(sorted(kept), moved)

    def set_settings(self, given: dict[str, Any]) -> None:
        """Validates and stores settings; a secret that is left out stays as it is sealed, while the place is the same."""
        hidden = secret_keys(settings_of(self.kind))
        if self.pk is not None:
            self._require_secrets(given)
        try:
            kept = settings.SEALING_KEYS.unseal(self.sealed)
        except SealBroken:
            kept = {}  # what cannot be opened is lost; this is how it is set anew
        # what is given takes the place of a sealed secret, and a reference that of what was sealed before
        merged = {**kept, **{key: value for key, value in self.settings.items() if key in hidden}, **given}
        whole = settings_of(self.kind).model_validate(merged).model_dump(mode="json", exclude_none=True)
        secret = {key: whole[key] for key in hidden if isinstance(whole.get(key), str) and whole[key]}
        references = {key: whole[key] for key in hidden if isinstance(whole.get(key), dict)}
        self.settings = {key: value for key, value in whole.items() if key not in hidden} | references
        self.sealed = settings.SEALING_KEYS.seal(secret)

    def spec(self, text: str = "") -> ConnectionSpec:
        """The connection with its secrets opened; with the environment variables that it, or ``text``, names."""
        places = SecretPlaces(settings.SECRET_VARIABLES, settings.SECRET_FOLDER)
        whole = self._opened()
        return ConnectionSpec(
            self.name,
            self.kind,
            whole,
            settings.ROOTS,
            places.variables,
            places.folder,
            needed_variables(places, f"{json.dumps(whole)} {text}"),
            self.site,
        )

    def _opened(self) -> dict[str, Any]:
        """The settings with secrets, and with those of other connections that it names; UltravectError where these cannot be had."""
        whole: Mapping[str, Any] = {**self.settings, **settings.SEALING_KEYS.unseal(self.sealed)}
        for setting, other in self.named().items():
            place = {**other.settings, **settings.SEALING_KEYS.unseal(other.sealed)}
            whole = borrowed(self.kind)[setting](whole, other.name, other.kind, place)
        return dict(whole)

    def named(self) -> dict[str, Connection]:
        """The other connections that its settings name; UltravectError where one is not there, or is at another site."""
        found = {}
        for setting in borrowed(self.kind):
            name = self.settings.get(setting)
            if not name:
                continue
            other = Connection.objects.filter(name=name).first()
            if other is None or other.site != self.site:
                what = "there is no connection" if other is None else "another site has the connection"
                raise UltravectError(
                    "connection-unknown",
                    f"connection {self.name}: {what} {name!r}, which its {setting} names",
                    hint=f"add it, or change {setting}",
                    connection=self.name,
                )
            found[setting] = other
        return found

    @property
    def managed(self) -> bool:
        """Whether the service itself keeps this connection: the place of uploaded files."""
        return self.name == UPLOADS_NAME and bool(settings.UPLOADS) and self.settings.get("path") == settings.UPLOADS

    @property
    def secrets_set(self) -> list[str]:
        try:
            return sorted(settings.SEALING_KEYS.unseal(self.sealed))
        except SealBroken:
            return []


class Named(models.Model):
    """Something that is saved under a name, in versions; one that is deleted keeps them."""

    name = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    deleted_at = models.DateTimeField(null=True)

    class Meta:
        abstract = True
        ordering: ClassVar = ["name"]


class Version(models.Model):
    """What was saved at one time: the text as written, and its structure."""

    number = models.PositiveIntegerField()
    text = models.TextField()
    structure = models.JSONField()
    saved_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)
    saved_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract = True


V = TypeVar("V", bound=Version)


def _newest(versions: models.Manager[V]) -> V:
    newest = versions.order_by("-number").first()
    assert newest is not None
    return newest


class Job(Named):
    """A job by its name; what it says is in its revisions."""

    listed: Revision | None = None
    """The newest revision, where it was looked up with those of other jobs."""

    @property
    def revision(self) -> Revision:
        """The newest revision."""
        return self.listed or _newest(self.revisions)


class Revision(Version):
    """A job as it was saved at one time."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="revisions")

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["job", "number"], name="one_revision_a_number")]


class SavedLayout(Named):
    """A layout by its name; what it says is in its versions."""

    @property
    def version(self) -> LayoutVersion:
        """The newest version."""
        return _newest(self.versions)


class LayoutVersion(Version):
    """A layout as it was saved at one time."""

    layout = models.ForeignKey(SavedLayout, on_delete=models.CASCADE, related_name="versions")

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["layout", "number"], name="one_version_a_number")]


class Feed(Named):
    """A feed by its name; what it says is in its revisions."""

    expected_at = models.DateTimeField(null=True)
    """When the files of its providers are expected next; None: that is to be found."""

    @property
    def revision(self) -> FeedRevision:
        """The newest revision."""
        return _newest(self.revisions)


class FeedRevision(Version):
    """A feed as it was saved at one time."""

    feed = models.ForeignKey(Feed, on_delete=models.CASCADE, related_name="revisions")

    class Meta:
        constraints: ClassVar = [
            models.UniqueConstraint(fields=["feed", "number"], name="one_feed_revision_a_number")
        ]


class FileState(models.TextChoices):
    """What became of a file of a feed."""

    FOUND = "found"
    LOADED = "loaded"
    FAILED = "failed"
    UNMATCHED = "unmatched"
    DISPUTED = "disputed"


class State(models.TextChoices):
    """States of a run, and of its legs."""

    QUEUED = "queued"
    RUNNING = "running"
    SUCCEEDED = "succeeded"
    FAILED = "failed"
    STOPPED = "stopped"

    @property
    def ended(self) -> bool:
        return self in (State.SUCCEEDED, State.FAILED, State.STOPPED)


class Outcome(models.TextChoices):
    """What a run has left in its target, whatever its state. Of a run under way: what it has left so far."""

    NOTHING = NOTHING
    COMMITTED = COMMITTED
    UNKNOWN = UNKNOWN


class RunKind(models.TextChoices):
    """What a run does: load what the job says, load rows again that another run rejected, or undo another run's load."""

    LOAD = "load"
    REJECTS = "rejects"
    UNDO = "undo"


class Trigger(models.TextChoices):
    """Why a run was started."""

    HAND = "hand"
    SCHEDULE = "schedule"
    AFTER = "after"
    FILL = "fill"


class Schedule(models.Model):
    """Times at which a job is run by itself, as its newest revision has them at ``place``; when the next one is, and who has paused it."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="schedules")
    place = models.PositiveIntegerField()
    declared = models.JSONField()
    next_at = models.DateTimeField()
    last_for = models.DateTimeField(null=True)
    """The last time for which a run was started, or was to be."""

    left_out = models.TextField(blank=True, default="")
    """Why no run was started for it; "" where one was."""

    paused_at = models.DateTimeField(null=True)
    paused_by = models.CharField(max_length=150, blank=True, default="")
    paused_why = models.TextField(blank=True, default="")

    class Meta:
        ordering: ClassVar = ["job__name", "place"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["job", "place"], name="one_schedule_a_place")]
        indexes: ClassVar = [models.Index(fields=["next_at"], name="records_schedule_next_idx")]


class DueJob(models.Model):
    """A job that has to have succeeded by a time of each day, as its newest revision says; and when it is looked at next."""

    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="due")
    time = models.CharField(max_length=5)
    timezone = models.CharField(max_length=100)
    next_at = models.DateTimeField()

    class Meta:
        indexes: ClassVar = [models.Index(fields=["next_at"], name="records_duejob_next_idx")]


class AwaitedJob(models.Model):
    """A job that another one is run after, by its name: it may not be there yet."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="awaited")
    name = models.CharField(max_length=64)
    since = models.DateTimeField(auto_now_add=True)
    """When the job declared it: what had succeeded before is not made up for."""

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["job", "name"], name="one_awaited_job_a_name")]
        indexes: ClassVar = [models.Index(fields=["name"], name="records_awaited_name_idx")]


class Run(models.Model):
    """One execution of a job."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="runs")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT)
    state = models.CharField(max_length=16, choices=State.choices, default=State.QUEUED)
    started_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)
    queued_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    first_row_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    stop_requested = models.BooleanField(default=False)
    error = models.JSONField(null=True)
    idempotency_key = models.CharField(max_length=200, null=True, unique=True)
    parameters = models.JSONField(default=dict)
    attempts = models.PositiveIntegerField(default=0)
    """The most attempts that one of its legs took."""

    outcome = models.CharField(max_length=16, choices=Outcome.choices, default=Outcome.NOTHING)
    again = models.JSONField(null=True)
    """The range that is copied anew, ``from`` and ``to``, of a job that copies what is new; None for what is new."""

    only = models.JSONField(null=True)
    """The objects that it copies, of a job with many; None for all."""

    trigger = models.CharField(max_length=16, choices=Trigger.choices, default=Trigger.HAND)
    scheduled_for = models.DateTimeField(null=True)
    """The time of its schedule for which it was started; a run that is late, or is repeated, has the same."""

    noted = models.BooleanField(default=False)
    """Whether it was looked at for messages, once it had ended."""

    run_date = models.DateField(null=True)
    """The date of that time in the schedule's zone; None where the date counts on which it was queued."""

    kind = models.CharField(max_length=16, choices=RunKind.choices, default=RunKind.LOAD)
    origin = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="followed_by")
    """The run whose rejects are loaded, or whose load is undone."""

    class Meta:
        ordering: ClassVar = ["-id"]
        indexes: ClassVar = [
            models.Index(fields=["job", "-id"]),
            models.Index(fields=["state"]),
            models.Index(fields=["scheduled_for"], name="records_run_scheduled_idx"),
            models.Index(fields=["id"], condition=models.Q(noted=False), name="records_run_unnoted_idx"),
            models.Index(fields=["queued_at"], name="records_run_queued_idx"),
            models.Index(fields=["ended_at"], name="records_run_ended_idx"),
        ]


class LegManager(models.Manager["Leg"]):
    """Leaves plan and structure in the database until they are asked for: they are large, and lists do not show them."""

    def get_queryset(self) -> models.QuerySet[Leg]:
        return super().get_queryset().defer("plan", "structure")


class Leg(models.Model):
    """The part of a run that copies one source object into one target object."""

    objects: ClassVar[LegManager] = LegManager()

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="legs")
    number = models.PositiveIntegerField()
    source = models.CharField(max_length=500)
    target = models.CharField(max_length=500)
    state = models.CharField(max_length=16, choices=State.choices, default=State.QUEUED)
    phases = models.JSONField(default=list)
    progress = models.JSONField(default=dict)
    tally = models.JSONField(null=True)
    rows_before = models.BigIntegerField(null=True)
    rows_after = models.BigIntegerField(null=True)
    created_target = models.BooleanField(default=False)
    rejected = models.BigIntegerField(default=0)
    comparison = models.JSONField(null=True)
    checksums = models.JSONField(null=True)
    guards = models.JSONField(null=True)
    """What was found of each guard of the job: see ``core.engine.run.guards.Decided``."""

    peak_memory = models.BigIntegerField(null=True)
    plan = models.JSONField(null=True)
    strategy = models.CharField(max_length=40, default="", blank=True)
    gone = models.BigIntegerField(default=0)
    mark = models.JSONField(null=True)
    """Where it began, and what it has noted, of a job that copies what is new."""

    object = models.CharField(max_length=500, default="", blank=True)
    """What it copies, of a job with many."""

    structure = models.JSONField(null=True)
    """The job of this leg, of a job with many; None where it is the run's revision."""

    waits_for = models.JSONField(default=list)
    """The numbers of legs that end before this one begins."""

    begun = models.BooleanField(default=False)
    """Whether it was given to the queue: only so many legs of a run are at once."""

    stop_requested = models.BooleanField(default=False)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    error = models.JSONField(null=True)
    worker = models.CharField(max_length=100, blank=True, default="")
    attempts = models.PositiveIntegerField(default=0)
    lease = models.BigIntegerField(default=0)
    """Grows each time the leg is begun or taken over: what an earlier worker records is refused."""

    outcome = models.CharField(max_length=16, choices=Outcome.choices, default=Outcome.NOTHING)
    outcome_asked_at = models.DateTimeField(null=True)
    """When the target was last asked for it, while it is unknown."""

    statements = models.JSONField(default=list)
    """Those that took longest in databases: see ``contracts/statements.py``."""

    slice_order = models.JSONField(null=True)
    """What workers need to copy its slices, see ``SliceOrder``."""

    class Meta:
        ordering: ClassVar = ["number"]
        indexes: ClassVar = [
            models.Index(fields=["state"], name="records_leg_state_idx"),
            models.Index(fields=["outcome"], name="records_leg_outcome_idx"),
            models.Index(fields=["ended_at"], name="records_leg_ended_idx"),
        ]
        constraints: ClassVar = [models.UniqueConstraint(fields=["run", "number"], name="one_leg_a_number")]


class Slice(models.Model):
    """A part of a leg that any worker can copy on its own; of the leg's attempt that is under way, or was the last."""

    leg = models.ForeignKey(Leg, on_delete=models.CASCADE, related_name="slices")
    number = models.PositiveIntegerField()
    label = models.CharField(max_length=500)
    state = models.CharField(max_length=16, choices=State.choices, default=State.QUEUED)
    worker = models.CharField(max_length=100, blank=True, default="")
    attempts = models.PositiveIntegerField(default=0)
    lease = models.BigIntegerField(default=0)
    """Grows each time the slice is begun or given back: what an earlier worker records is refused."""

    progress = models.JSONField(default=dict)
    result = models.JSONField(null=True)
    error = models.JSONField(null=True)
    started_at = models.DateTimeField(null=True)
    seen_at = models.DateTimeField(null=True)
    """When its worker last gave a sign of life."""

    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering: ClassVar = ["number"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["leg", "number"], name="one_slice_a_number")]


class WorkerSeen(models.Model):
    """A worker, and when it last gave a sign of life."""

    name = models.CharField(max_length=100, unique=True)
    sites = models.JSONField(default=list)
    slots = models.PositiveIntegerField(default=0)
    seen_at = models.DateTimeField()

    class Meta:
        ordering: ClassVar = ["name"]


class SiteLook(models.Model):
    """A question about connections of a site, which a worker of it answers; it is removed with the answer."""

    sealed = models.TextField()
    answer = models.TextField(null=True)
    asked_at = models.DateTimeField(auto_now_add=True)


class FeedEntry(models.Model):
    """A file in a feed's register."""

    feed = models.ForeignKey(Feed, on_delete=models.CASCADE, related_name="entries")
    path = models.TextField()
    size = models.BigIntegerField(default=0)
    modified_at = models.DateTimeField(null=True)
    found_at = models.DateTimeField()
    provider = models.CharField(max_length=64, blank=True, default="")
    version = models.PositiveIntegerField(default=0)
    state = models.CharField(max_length=16, choices=FileState.choices)
    reason = models.TextField(blank=True, default="")
    run = models.ForeignKey(Run, on_delete=models.SET_NULL, null=True)
    leg = models.PositiveIntegerField(null=True)
    rows = models.BigIntegerField(default=0)
    rejected = models.BigIntegerField(default=0)

    class Meta:
        ordering: ClassVar = ["-found_at", "path"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["feed", "path"], name="one_entry_a_file")]


class Event(models.Model):
    """Something that happened in a run; the stream of a run is its events in the order of their ids."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="events")
    leg = models.PositiveIntegerField(null=True)
    """The number of the leg, where it is of one."""

    kind = models.CharField(max_length=16)
    at = models.DateTimeField(auto_now_add=True)
    data = models.JSONField(default=dict)

    class Meta:
        ordering: ClassVar = ["id"]


class Reject(models.Model):
    """A row that could not be converted or written."""

    leg = models.ForeignKey(Leg, on_delete=models.CASCADE, related_name="rejects")
    object = models.CharField(max_length=500)
    row = models.BigIntegerField()
    line = models.BigIntegerField(null=True)
    column = models.CharField(max_length=500, blank=True)
    value = models.TextField(null=True)
    reason = models.TextField()
    record = models.TextField()
    key = models.TextField(blank=True, default="")
    slice = models.PositiveIntegerField(null=True)

    class Meta:
        ordering: ClassVar = ["id"]


class Change(models.Model):
    """A row before and after a load: one of those that are kept as a sample."""

    leg = models.ForeignKey(Leg, on_delete=models.CASCADE, related_name="changes")
    kind = models.CharField(max_length=16)
    columns = models.JSONField(default=list)
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)

    class Meta:
        ordering: ClassVar = ["id"]


class Occasion(models.TextChoices):
    """What a message can be about."""

    FAILED = "failed"
    RECOVERED = "recovered"
    REJECTS = "rejects"
    LATE = "late"
    GUARD = "guard"
    CHANGED = "changed"
    MISSING = "missing"
    UNMATCHED = "unmatched"
    TEST = "test"


class NotifyRule(models.Model):
    """Who is sent a message of what. ``jobs`` and ``labels``: of which jobs; both empty: of all."""

    name = models.CharField(max_length=64, unique=True)
    occasions = models.JSONField(default=list)
    jobs = models.JSONField(default=list)
    labels = models.JSONField(default=list)
    mail = models.JSONField(default=list)
    webhook = models.URLField(max_length=2000, blank=True, default="")
    sealed = models.TextField(blank=True, default="")
    """The key that messages to the webhook are signed with."""

    quiet_from = models.CharField(max_length=5, blank=True, default="")
    quiet_to = models.CharField(max_length=5, blank=True, default="")
    quiet_zone = models.CharField(max_length=100, blank=True, default="UTC")
    """Messages that come up in these hours are sent at their end."""

    remind_hours = models.PositiveIntegerField(default=0)
    """After how many hours a failure or lateness that lasts is said again; 0 for never."""

    class Meta:
        ordering: ClassVar = ["name"]


class Message(models.Model):
    """What one rule sends of one cause: ``items`` are what came up until it was sent."""

    rule = models.ForeignKey(NotifyRule, on_delete=models.CASCADE, related_name="messages")
    occasion = models.CharField(max_length=16, choices=Occasion.choices)
    cause = models.CharField(max_length=200)
    items = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)
    send_at = models.DateTimeField()
    sent_at = models.DateTimeField(null=True)
    attempts = models.PositiveIntegerField(default=0)
    error = models.TextField(blank=True, default="")
    remind_at = models.DateTimeField(null=True)
    """When it is said again what lasts of it."""

    class Meta:
        ordering: ClassVar = ["-id"]
        indexes: ClassVar = [
            models.Index(fields=["send_at"], condition=models.Q(sent_at=None), name="records_message_unsent_idx"),
            models.Index(
                fields=["remind_at"], condition=models.Q(remind_at__isnull=False), name="records_message_remind_idx"
            ),
        ]
