import django.utils.timezone
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0020_tokens_of_jobs"),
    ]

    operations = [
        migrations.AddField(
            model_name="awaitedjob",
            name="since",
            field=models.DateTimeField(auto_now_add=True, default=django.utils.timezone.now),
            preserve_default=False,
        ),
    ]
