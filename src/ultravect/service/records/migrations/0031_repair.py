from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0030_streams"),
    ]

    operations = [
        migrations.AlterField(
            model_name="run",
            name="kind",
            field=models.CharField(
                choices=[("load", "Load"), ("rejects", "Rejects"), ("undo", "Undo"), ("repair", "Repair")],
                default="load",
                max_length=16,
            ),
        ),
    ]
