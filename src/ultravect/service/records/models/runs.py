"""Runs, their legs and slices, and what happened in them."""

from __future__ import annotations

from typing import ClassVar

from django.contrib.postgres.fields import ArrayField
from django.db import models

from ultravect.service.records.models.declared import Job, Revision
from ultravect.service.records.models.people import User
from ultravect.service.records.models.states import Outcome, RunKind, State, Trigger


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
    pace = models.JSONField(default=list)
    """Seconds since it started, and rows read by then: some points of its time, for a curve."""

    tally = models.JSONField(null=True)
    rows_before = models.BigIntegerField(null=True)
    rows_after = models.BigIntegerField(null=True)
    rows_about = models.BooleanField(default=False)
    """Whether both are what statistics say, and were not counted."""

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
    """Whether its turn in the run has come: only so many legs of a run are at once."""

    queued_at = models.DateTimeField(null=True)
    """Since when workers may claim it; None where it has not begun, or goes with another leg of a run that publishes together."""

    not_before = models.DateTimeField(null=True)
    """Before this no worker claims it: it failed, and is tried again after a pause."""

    priority = models.IntegerField(default=0)
    owner = models.CharField(max_length=100, default="", blank=True)
    """Who waits with it: of two owners, the one of whom fewer legs run is first."""

    sites = ArrayField(models.CharField(max_length=50), default=list)
    """That its worker has to serve."""

    uses = ArrayField(models.CharField(max_length=200), default=list)
    """The names of its connections, each of which may have room for only so many legs."""

    place = models.CharField(max_length=1000, null=True)
    """What it writes into, which one running leg has at a time; None where another leg of its run has it."""

    waits_noted = models.BooleanField(default=False)
    """Whether it was said that it waits for room of a connection."""

    stop_requested = models.BooleanField(default=False)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    error = models.JSONField(null=True)
    worker = models.CharField(max_length=100, blank=True, default="")
    attempts = models.PositiveIntegerField(default=0)
    lease = models.BigIntegerField(default=0)
    """Grows each time the leg is begun or taken over: what an earlier worker records is refused."""

    seen_at = models.DateTimeField(null=True)
    """When its worker last renewed the lease, by the clock of the database."""

    noted = models.BigIntegerField(default=0)
    """The number of the last list of events that its worker has recorded: one that is sent again is not recorded twice."""

    events_kept = models.PositiveIntegerField(default=0)
    events_left_out = models.PositiveIntegerField(default=0)
    """Of so many events, the first are kept."""

    unverified = models.BooleanField(default=False)
    """Whether its rows are committed, and could not be counted since the target did not answer any more."""

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
            models.Index(
                fields=["owner", "-priority", "queued_at", "id"],
                condition=models.Q(state="queued", queued_at__isnull=False),
                name="records_leg_queue_idx",
            ),
            models.Index(fields=["outcome"], name="records_leg_outcome_idx"),
            models.Index(fields=["ended_at"], name="records_leg_ended_idx"),
        ]
        constraints: ClassVar = [
            models.UniqueConstraint(fields=["run", "number"], name="one_leg_a_number"),
            models.UniqueConstraint(fields=["place"], condition=models.Q(state="running"), name="one_leg_a_place"),
        ]


class LegSearch(models.Model):
    """The legs of a run are still to be found, by one worker; it is removed when they are."""

    run = models.OneToOneField(Run, on_delete=models.CASCADE, related_name="search")
    sites = ArrayField(models.CharField(max_length=50), default=list)
    queued_at = models.DateTimeField()
    not_before = models.DateTimeField(null=True)
    worker = models.CharField(max_length=100, blank=True, default="")
    attempts = models.PositiveIntegerField(default=0)
    lease = models.BigIntegerField(default=0)
    seen_at = models.DateTimeField(null=True)

    class Meta:
        ordering: ClassVar = ["id"]


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
