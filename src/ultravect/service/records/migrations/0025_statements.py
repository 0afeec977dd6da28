from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0024_reminders"),
    ]

    operations = [
        migrations.AddField(
            model_name="leg",
            name="statements",
            field=models.JSONField(default=list),
        ),
    ]
