"""Streams: jobs that follow the log of their source, and what came of it, minute by minute."""

from __future__ import annotations

from typing import ClassVar

from django.contrib.postgres.fields import ArrayField
from django.db import models

from ultravect.service.records.models.declared import Job, Revision
from ultravect.service.records.models.people import User


class StreamState(models.TextChoices):
    """States of a stream. Those under way: it waits for a worker, copies its tables, or follows the log."""

    WAITING = "waiting"
    SNAPSHOT = "snapshot"
    FOLLOWING = "following"
    PAUSED = "paused"
    FAILED = "failed"
    STOPPED = "stopped"

    @property
    def is_under_way(self) -> bool:
        return self in (StreamState.WAITING, StreamState.SNAPSHOT, StreamState.FOLLOWING)


class Stream(models.Model):
    """The stream of a job. Its row is its lease: see ``work.streams.transitions``."""

    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="stream")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT)
    """As which it runs, or ran last."""

    state = models.CharField(max_length=16, choices=StreamState.choices, default=StreamState.WAITING)
    started_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)
    started_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now_add=True)
    """Since when it is in this state."""

    sites = ArrayField(models.CharField(max_length=50), default=list)
    worker = models.CharField(max_length=100, default="", blank=True)
    lease = models.BigIntegerField(default=0)
    seen_at = models.DateTimeField(null=True)
    not_before = models.DateTimeField(null=True)
    failures = models.PositiveIntegerField(default=0)
    """How often it has failed by something that passes since its last window."""

    position = models.CharField(max_length=100, default="", blank=True)
    lag = models.FloatField(null=True)
    """The lag of the target in seconds, when it was last seen."""

    lag_at = models.DateTimeField(null=True)
    is_late = models.BooleanField(default=False)
    """Whether its lag is longer than its guard allows, which was said."""

    log_kept = models.BigIntegerField(null=True)
    """Bytes of its log that the source kept for it, when that was last seen."""

    tables = models.JSONField(default=dict)
    """By the name of each object: its state, the rows of its snapshot, and what came of its changes so far."""

    error = models.JSONField(null=True)
    """Why it has paused or failed, or why it waits to be tried again."""

    accepted = models.JSONField(default=list)
    """The changes of tables at which it has paused before."""

    class Meta:
        ordering: ClassVar = ["job__name"]
        indexes: ClassVar = [models.Index(fields=["state"], name="records_stream_state_idx")]


class StreamMinute(models.Model):
    """What a stream did in a minute: changes as the source made them, and rows as the target took them."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="minutes")
    minute = models.DateTimeField()
    changes = models.BigIntegerField(default=0)
    inserted = models.BigIntegerField(default=0)
    updated = models.BigIntegerField(default=0)
    deleted = models.BigIntegerField(default=0)
    rejected = models.BigIntegerField(default=0)
    windows = models.PositiveIntegerField(default=0)
    lag = models.FloatField(default=0)
    """The longest of the minute, in seconds."""

    class Meta:
        ordering: ClassVar = ["-minute"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["stream", "minute"], name="one_line_a_minute")]


class StreamEvent(models.Model):
    """What was said of a stream."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="events")
    at = models.DateTimeField(auto_now_add=True)
    level = models.CharField(max_length=10)
    text = models.TextField()

    class Meta:
        ordering: ClassVar = ["-id"]


class StreamReject(models.Model):
    """A change that did not fit the target."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="rejects")
    at = models.DateTimeField(auto_now_add=True)
    object = models.TextField()
    column = models.TextField(blank=True)
    value = models.TextField(null=True)
    reason = models.TextField()
    record = models.TextField()
    key = models.TextField(blank=True, default="")

    class Meta:
        ordering: ClassVar = ["-id"]
