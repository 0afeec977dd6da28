"""The plan that a leg follows, and the strategy that it used."""

from __future__ import annotations

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0007_leases_tokens_audit")]

    operations = [
        migrations.AddField("leg", "plan", models.JSONField(null=True)),
        migrations.AddField("leg", "strategy", models.CharField(blank=True, default="", max_length=40)),
    ]
