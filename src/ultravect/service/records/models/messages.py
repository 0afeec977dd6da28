"""Rules for messages, and the messages."""

from __future__ import annotations

from typing import ClassVar

from django.db import models


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
    delivered = models.JSONField(default=list)
    """Which places have it already, *mail* and *webhook*, where another does not yet."""

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
