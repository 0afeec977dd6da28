from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0027_counts"),
    ]

    operations = [
        migrations.AddField(
            model_name="message",
            name="delivered",
            field=models.JSONField(default=list),
        ),
    ]
