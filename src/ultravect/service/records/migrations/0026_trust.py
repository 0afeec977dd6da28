import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0025_statements"),
    ]

    operations = [
        migrations.AddField(
            model_name="workerseen",
            name="joined",
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name="token",
            name="parent",
            field=models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.CASCADE, related_name="children", to="records.token"
            ),
        ),
    ]
