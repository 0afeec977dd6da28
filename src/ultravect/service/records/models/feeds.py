"""The register of feeds."""

from __future__ import annotations

from typing import ClassVar

from django.db import models

from ultravect.service.records.models.declared import Feed
from ultravect.service.records.models.runs import Run
from ultravect.service.records.models.states import FileState


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
