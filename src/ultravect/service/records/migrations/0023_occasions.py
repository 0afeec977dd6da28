from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0022_at_most"),
    ]

    operations = [
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
                    ("test", "Test"),
                ],
                max_length=16,
            ),
        ),
    ]
