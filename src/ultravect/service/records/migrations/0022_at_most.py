from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0021_awaited_since"),
    ]

    operations = [
        migrations.AddField(
            model_name="connection",
            name="at_most",
            field=models.PositiveIntegerField(null=True),
        ),
    ]
