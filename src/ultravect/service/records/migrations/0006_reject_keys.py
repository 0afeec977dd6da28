from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0005_run_kinds_and_changes"),
    ]

    operations = [
        migrations.AddField(model_name="reject", name="key", field=models.TextField(blank=True, default="")),
    ]
