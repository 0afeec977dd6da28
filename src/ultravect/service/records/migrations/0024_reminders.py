from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0023_occasions"),
    ]

    operations = [
        migrations.AddField(
            model_name="feed",
            name="expected_at",
            field=models.DateTimeField(null=True),
        ),
        migrations.AddField(
            model_name="message",
            name="remind_at",
            field=models.DateTimeField(null=True),
        ),
        migrations.AddField(
            model_name="notifyrule",
            name="remind_hours",
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AlterField(
            model_name="message",
            name="occasion",
            field=models.CharField(
                choices=[
                    ("failed", "Failed"),
                    ("recovered", "Recovered"),
                    ("rejects", "Rejects"),
                    ("late", "Late"),
                    ("guard", "Guard"),
                    ("changed", "Changed"),
                    ("missing", "Missing"),
                    ("unmatched", "Unmatched"),
                    ("test", "Test"),
                ],
                max_length=16,
            ),
        ),
        migrations.AddIndex(
            model_name="message",
            index=models.Index(
                condition=models.Q(("remind_at__isnull", False)),
                fields=["remind_at"],
                name="records_message_remind_idx",
            ),
        ),
    ]
