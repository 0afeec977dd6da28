import django.contrib.postgres.fields
import django.db.models.deletion
from django.db import migrations, models

# the tables of the library that earlier versions had for a queue
_DROP = """
DO $$
DECLARE found record;
BEGIN
  FOR found IN SELECT c.oid::regclass AS name FROM pg_class c WHERE c.relkind IN ('r', 'p') AND c.relnamespace = current_schema()::regnamespace
      AND c.relname LIKE 'procrastinate\\_%%' LOOP
    EXECUTE format('DROP TABLE IF EXISTS %%s CASCADE', found.name);
  END LOOP;
  FOR found IN SELECT p.oid::regprocedure AS name FROM pg_proc p WHERE p.pronamespace = current_schema()::regnamespace
      AND p.proname LIKE 'procrastinate\\_%%' LOOP
    EXECUTE format('DROP FUNCTION IF EXISTS %%s CASCADE', found.name);
  END LOOP;
  FOR found IN SELECT t.oid::regtype AS name FROM pg_type t WHERE t.typnamespace = current_schema()::regnamespace AND t.typtype IN ('e', 'c')
      AND t.typname LIKE 'procrastinate\\_%%' LOOP
    EXECUTE format('DROP TYPE IF EXISTS %%s CASCADE', found.name);
  END LOOP;
END $$
"""


class Migration(migrations.Migration):
    dependencies = [
        ("records", "0028_delivered"),
    ]

    operations = [
        migrations.CreateModel(
            name="LegSearch",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True,
                        primary_key=True,
                        serialize=False,
                        verbose_name="ID",
                    ),
                ),
                (
                    "sites",
                    django.contrib.postgres.fields.ArrayField(
                        base_field=models.CharField(max_length=50),
                        default=list,
                        size=None,
                    ),
                ),
                ("queued_at", models.DateTimeField()),
                ("not_before", models.DateTimeField(null=True)),
                ("worker", models.CharField(blank=True, default="", max_length=100)),
                ("attempts", models.PositiveIntegerField(default=0)),
                ("lease", models.BigIntegerField(default=0)),
                ("seen_at", models.DateTimeField(null=True)),
            ],
            options={
                "ordering": ["id"],
            },
        ),
        migrations.AddField(
            model_name="leg",
            name="events_kept",
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AddField(
            model_name="leg",
            name="events_left_out",
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AddField(
            model_name="leg",
            name="not_before",
            field=models.DateTimeField(null=True),
        ),
        migrations.AddField(
            model_name="leg",
            name="noted",
            field=models.BigIntegerField(default=0),
        ),
        migrations.AddField(
            model_name="leg",
            name="owner",
            field=models.CharField(blank=True, default="", max_length=100),
        ),
        migrations.AddField(
            model_name="leg",
            name="pace",
            field=models.JSONField(default=list),
        ),
        migrations.AddField(
            model_name="leg",
            name="place",
            field=models.CharField(max_length=1000, null=True),
        ),
        migrations.AddField(
            model_name="leg",
            name="priority",
            field=models.IntegerField(default=0),
        ),
        migrations.AddField(
            model_name="leg",
            name="queued_at",
            field=models.DateTimeField(null=True),
        ),
        migrations.AddField(
            model_name="leg",
            name="seen_at",
            field=models.DateTimeField(null=True),
        ),
        migrations.AddField(
            model_name="leg",
            name="sites",
            field=django.contrib.postgres.fields.ArrayField(
                base_field=models.CharField(max_length=50), default=list, size=None
            ),
        ),
        migrations.AddField(
            model_name="leg",
            name="unverified",
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name="leg",
            name="uses",
            field=django.contrib.postgres.fields.ArrayField(
                base_field=models.CharField(max_length=200), default=list, size=None
            ),
        ),
        migrations.AddField(
            model_name="leg",
            name="waits_noted",
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name="sitelook",
            name="sites",
            field=django.contrib.postgres.fields.ArrayField(
                base_field=models.CharField(max_length=50), default=list, size=None
            ),
        ),
        migrations.AddField(
            model_name="sitelook",
            name="worker",
            field=models.CharField(blank=True, default="", max_length=100),
        ),
        migrations.AddIndex(
            model_name="leg",
            index=models.Index(
                condition=models.Q(("queued_at__isnull", False), ("state", "queued")),
                fields=["owner", "-priority", "queued_at", "id"],
                name="records_leg_queue_idx",
            ),
        ),
        migrations.AddConstraint(
            model_name="leg",
            constraint=models.UniqueConstraint(
                condition=models.Q(("state", "running")),
                fields=("place",),
                name="one_leg_a_place",
            ),
        ),
        migrations.AddField(
            model_name="legsearch",
            name="run",
            field=models.OneToOneField(
                on_delete=django.db.models.deletion.CASCADE,
                related_name="search",
                to="records.run",
            ),
        ),
        migrations.RunSQL(_DROP.replace("%%", "%"), migrations.RunSQL.noop),
    ]
