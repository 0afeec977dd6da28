"""The time limit of a leg is called run.timeout in job files: saved ones are rewritten, their text too."""

from __future__ import annotations

import re
from typing import Any

from django.db import migrations

# in a block, or in braces on one line: after `run:`, before any other key of the first level
_KEY = re.compile(r"^(run:(?:.*\n(?:[ \t#].*\n|\n)*?[ \t]+|[^\n]*?[ \t{,]))cutoff(?=[ \t]*:)", re.MULTILINE)


def rename(apps: Any, editor: Any) -> None:
    revisions = apps.get_model("records", "Revision")
    for revision in revisions.objects.filter(structure__run__has_key="cutoff").iterator():
        revision.structure["run"]["timeout"] = revision.structure["run"].pop("cutoff")
        revision.text = _KEY.sub(r"\1timeout", revision.text, count=1)
        revision.save(update_fields=["structure", "text"])


class Migration(migrations.Migration):
    dependencies = [("records", "0008_leg_plan")]

    operations = [migrations.RunPython(rename, migrations.RunPython.noop)]
