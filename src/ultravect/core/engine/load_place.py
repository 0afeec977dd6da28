"""What a job writes into, as one text: loads into the same place wait for each other, whatever job they are of."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Mapping
from typing import Any

from ultravect.core.databases import DATABASES
from ultravect.core.engine.object_names import RunFacts, filled
from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import place_keys
from ultravect.core.model.job import Job

_USUAL_SCHEMA = {"postgresql": "public", "sqlite": "main", "duckdb": "main"}


def load_place(job: Job, kind: str, settings: Mapping[str, Any], facts: RunFacts) -> str:
    """The place of a job's target by the settings of its connection, without asking anybody.

    Two names of one place can go unnoticed (an alias of a host, a search path); two places are never taken for one.
    """
    reached = [
        str(settings.get(key) or "").lower() for key in place_keys(kind) if key not in ("path", "prefix", "folder")
    ]
    inside = next((str(settings[key]) for key in ("path", "prefix", "folder") if settings.get(key)), "")
    into = job.into
    name = into.table or into.files or into.folder or ""
    try:
        name = filled(name, job, facts, "into", part=True)
    except UltravectError:
        return f"job:{job.job}"  # it will fail, and say why
    if kind in DATABASES:
        schema, _, table = name.replace('"', "").replace("`", "").lower().rpartition(".")
        schema = schema or str(_USUAL_SCHEMA.get(kind) or settings.get("database") or "").lower()
        inside = os.path.realpath(inside) if inside else ""
        return "/".join(["load:" + kind, *reached, inside, f"{schema}.{table}"])
    path = posixpath.normpath(posixpath.join(inside, name.lstrip("/")))
    return "/".join(["load:" + kind, *reached, os.path.realpath(path) if "path" in place_keys(kind) else path])
