from __future__ import annotations

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

_STATES = [
    ("found", "Found"),
    ("loaded", "Loaded"),
    ("failed", "Failed"),
    ("unmatched", "Unmatched"),
    ("disputed", "Disputed"),
]


class Migration(migrations.Migration):
    dependencies = [("records", "0011_marks")]

    operations = [
        migrations.CreateModel(
            "Feed",
            [
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("created_at", models.DateTimeField(auto_now_add=True)),
                ("deleted_at", models.DateTimeField(null=True)),
            ],
            options={"ordering": ["name"]},
        ),
        migrations.CreateModel(
            "FeedRevision",
            [
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.PositiveIntegerField()),
                ("text", models.TextField()),
                ("structure", models.JSONField()),
                ("saved_at", models.DateTimeField(auto_now_add=True)),
                (
                    "feed",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="revisions", to="records.feed"
                    ),
                ),
                (
                    "saved_by",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("feed", "number"), name="one_feed_revision_a_number")]
            },
        ),
        migrations.CreateModel(
            "FeedEntry",
            [
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("path", models.TextField()),
                ("size", models.BigIntegerField(default=0)),
                ("modified_at", models.DateTimeField(null=True)),
                ("found_at", models.DateTimeField()),
                ("provider", models.CharField(blank=True, default="", max_length=64)),
                ("version", models.PositiveIntegerField(default=0)),
                ("state", models.CharField(choices=_STATES, max_length=16)),
                ("reason", models.TextField(blank=True, default="")),
                ("leg", models.PositiveIntegerField(null=True)),
                ("rows", models.BigIntegerField(default=0)),
                ("rejected", models.BigIntegerField(default=0)),
                (
                    "feed",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="entries", to="records.feed"
                    ),
                ),
                (
                    "run",
                    models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to="records.run"),
                ),
            ],
            options={
                "ordering": ["-found_at", "path"],
                "constraints": [models.UniqueConstraint(fields=("feed", "path"), name="one_entry_a_file")],
            },
        ),
    ]
