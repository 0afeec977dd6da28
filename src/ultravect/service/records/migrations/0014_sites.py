from __future__ import annotations

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0013_slices")]

    operations = [
        migrations.AddField("connection", "site", models.CharField(blank=True, default="", max_length=40)),
        migrations.CreateModel(
            name="WorkerSeen",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=100, unique=True)),
                ("sites", models.JSONField(default=list)),
                ("slots", models.PositiveIntegerField(default=0)),
                ("seen_at", models.DateTimeField()),
            ],
            options={"ordering": ["name"]},
        ),
        migrations.CreateModel(
            name="SiteLook",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("sealed", models.TextField()),
                ("answer", models.TextField(null=True)),
                ("asked_at", models.DateTimeField(auto_now_add=True)),
            ],
        ),
    ]
