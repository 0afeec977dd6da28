from __future__ import annotations

import django.db.models.deletion
from django.db import migrations, models

_STATES = [
    ("queued", "Queued"),
    ("running", "Running"),
    ("succeeded", "Succeeded"),
    ("failed", "Failed"),
    ("stopped", "Stopped"),
]


class Migration(migrations.Migration):
    dependencies = [("records", "0012_feeds")]

    operations = [
        migrations.AddField("leg", "slice_order", models.JSONField(null=True)),
        migrations.AddField("reject", "slice", models.PositiveIntegerField(null=True)),
        migrations.CreateModel(
            name="Slice",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.PositiveIntegerField()),
                ("label", models.CharField(max_length=500)),
                ("state", models.CharField(choices=_STATES, default="queued", max_length=16)),
                ("worker", models.CharField(blank=True, default="", max_length=100)),
                ("attempts", models.PositiveIntegerField(default=0)),
                ("lease", models.BigIntegerField(default=0)),
                ("progress", models.JSONField(default=dict)),
                ("result", models.JSONField(null=True)),
                ("error", models.JSONField(null=True)),
                ("started_at", models.DateTimeField(null=True)),
                ("seen_at", models.DateTimeField(null=True)),
                ("ended_at", models.DateTimeField(null=True)),
                (
                    "leg",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="slices", to="records.leg"
                    ),
                ),
            ],
            options={"ordering": ["number"]},
        ),
        migrations.AddConstraint(
            "slice", models.UniqueConstraint(fields=("leg", "number"), name="one_slice_a_number")
        ),
    ]
