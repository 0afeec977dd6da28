"""Legs are leased, end and are answered for on their own; those that are there take over what their runs say."""

from __future__ import annotations

from typing import Any

from django.db import migrations, models
from django.db.models import OuterRef, Subquery

_TAKEN = ("lease", "outcome", "outcome_asked_at", "worker", "attempts", "started_at", "ended_at", "error")


def take_over(apps: Any, editor: Any) -> None:
    runs = apps.get_model("records", "Run").objects.filter(pk=OuterRef("run"))
    values = {name: Subquery(runs.values(name)[:1]) for name in _TAKEN}
    apps.get_model("records", "Leg").objects.update(begun=True, **values)


class Migration(migrations.Migration):
    dependencies = [("records", "0009_timeout")]

    operations = [
        migrations.AddField("leg", "object", models.CharField(blank=True, default="", max_length=500)),
        migrations.AddField("leg", "structure", models.JSONField(null=True)),
        migrations.AddField("leg", "waits_for", models.JSONField(default=list)),
        migrations.AddField("leg", "begun", models.BooleanField(default=False)),
        migrations.AddField("leg", "stop_requested", models.BooleanField(default=False)),
        migrations.AddField("leg", "started_at", models.DateTimeField(null=True)),
        migrations.AddField("leg", "ended_at", models.DateTimeField(null=True)),
        migrations.AddField("leg", "error", models.JSONField(null=True)),
        migrations.AddField("leg", "worker", models.CharField(blank=True, default="", max_length=100)),
        migrations.AddField("leg", "attempts", models.PositiveIntegerField(default=0)),
        migrations.AddField("leg", "lease", models.BigIntegerField(default=0)),
        migrations.AddField(
            "leg",
            "outcome",
            models.CharField(
                choices=[("nothing", "Nothing"), ("committed", "Committed"), ("unknown", "Unknown")],
                default="nothing",
                max_length=16,
            ),
        ),
        migrations.AddField("leg", "outcome_asked_at", models.DateTimeField(null=True)),
        migrations.AddField("event", "leg", models.PositiveIntegerField(null=True)),
        migrations.AddField("run", "only", models.JSONField(null=True)),
        migrations.RunPython(take_over, migrations.RunPython.noop),
        migrations.RemoveField("run", "lease"),
        migrations.RemoveField("run", "outcome_asked_at"),
        migrations.RemoveField("run", "worker"),
        migrations.AddIndex("leg", models.Index(fields=["state"], name="records_leg_state_idx")),
        migrations.AddIndex("leg", models.Index(fields=["outcome"], name="records_leg_outcome_idx")),
    ]
