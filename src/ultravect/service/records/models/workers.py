"""Workers, and what is asked of those of a site."""

from __future__ import annotations

from typing import ClassVar

from django.contrib.postgres.fields import ArrayField
from django.db import models


class WorkerSeen(models.Model):
    """A worker, and when it last gave a sign of life."""

    name = models.CharField(max_length=100, unique=True)
    sites = models.JSONField(default=list)
    slots = models.PositiveIntegerField(default=0)
    seen_at = models.DateTimeField()
    joined = models.BooleanField(default=False)
    """Whether it joined by HTTPS, by a token of its sites: it is given their connections, and no others."""

    class Meta:
        ordering: ClassVar = ["name"]


class SiteLook(models.Model):
    """A question about connections of a site, which a worker of it answers; it is removed with the answer."""

    sealed = models.TextField()
    sites = ArrayField(models.CharField(max_length=50), default=list)
    worker = models.CharField(max_length=100, blank=True, default="")
    answer = models.TextField(null=True)
    asked_at = models.DateTimeField(auto_now_add=True)
