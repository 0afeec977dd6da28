from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0026_trust"),
    ]

    operations = [
        migrations.AddField(
            model_name="leg",
            name="rows_about",
            field=models.BooleanField(default=False),
        ),
    ]
