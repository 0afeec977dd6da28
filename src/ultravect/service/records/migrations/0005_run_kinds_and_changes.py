import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0004_run_attempts"),
    ]

    operations = [
        migrations.AddField(
            model_name="run",
            name="kind",
            field=models.CharField(
                choices=[("load", "Load"), ("rejects", "Rejects"), ("undo", "Undo")], default="load", max_length=16
            ),
        ),
        migrations.AddField(
            model_name="run",
            name="origin",
            field=models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.CASCADE,
                related_name="followed_by",
                to="records.run",
            ),
        ),
        migrations.AddField(model_name="leg", name="comparison", field=models.JSONField(null=True)),
        migrations.AddField(model_name="leg", name="checksums", field=models.JSONField(null=True)),
        migrations.CreateModel(
            name="Change",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("kind", models.CharField(max_length=16)),
                ("columns", models.JSONField(default=list)),
                ("before", models.JSONField(null=True)),
                ("after", models.JSONField(null=True)),
                (
                    "leg",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="changes", to="records.leg"
                    ),
                ),
            ],
            options={"ordering": ["id"]},
        ),
    ]
