"""What a job writes into, as one text: loads into the same place wait for each other, whatever job they are of."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Mapping
from typing import Any

from ultravect.core.engine.objects.names import RunFacts, filled
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kind_named
from ultravect.core.model.connection import place_keys
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.written import split_sheet


def load_place(job: Job, kind: str, settings: Mapping[str, Any], facts: RunFacts) -> str:
    """The place of a job's target by the settings of its connection, without asking anyone.

    Two names of one place can go unnoticed (an alias of a host, a search path); two places are never taken for one.
    """
    found = kind_named(kind)
    keys = place_keys(found.settings)
    reached = [str(settings.get(key) or "").lower() for key in keys if key not in ("path", "prefix", "folder")]
    inside = next((str(settings[key]) for key in ("path", "prefix", "folder") if settings.get(key)), "")
    into = job.into
    name = into.table or into.files or into.folder or ""
    try:
        name = filled(name, job, facts, "into", part=True)
    except UltravectError:
        return f"job:{job.job}"  # it will fail, and say why
    if found.holds == "tables":
        schema, _, table = name.replace('"', "").replace("`", "").lower().rpartition(".")
        schema = schema or str(found.usual_schema or settings.get("database") or "").lower()
        inside = os.path.realpath(inside) if inside else ""
        return "/".join(["load:" + kind, *reached, inside, f"{schema}.{table}"])
    if (inside_book := split_sheet(name)) is not None:
        name = inside_book[0]  # a workbook is written as a whole
    path = posixpath.normpath(posixpath.join(inside, name.lstrip("/")))
    return "/".join(["load:" + kind, *reached, os.path.realpath(path) if "path" in keys else path])
