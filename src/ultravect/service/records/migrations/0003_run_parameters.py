from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0002_saved_layouts"),
    ]

    operations = [
        migrations.AddField(model_name="run", name="parameters", field=models.JSONField(default=dict)),
    ]
