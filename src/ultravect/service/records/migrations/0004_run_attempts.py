from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0003_run_parameters"),
    ]

    operations = [
        migrations.AddField(model_name="run", name="attempts", field=models.PositiveIntegerField(default=0)),
    ]
