from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("records", "0014_sites")]

    operations = [
        migrations.AddField(model_name="token", name="sites", field=models.JSONField(default=list)),
    ]
