from __future__ import annotations

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0010_legs")]

    operations = [
        migrations.AddField("leg", "mark", models.JSONField(null=True)),
        migrations.AddField("leg", "gone", models.BigIntegerField(default=0)),
        migrations.AddField("run", "again", models.JSONField(null=True)),
    ]
