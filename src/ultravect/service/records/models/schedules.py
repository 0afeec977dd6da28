"""When jobs are run, and what is awaited."""

from __future__ import annotations

from typing import ClassVar

from django.db import models

from ultravect.service.records.models.declared import Job


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
