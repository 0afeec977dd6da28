"""What a leg process is given: the job as it is to be run, with opened secrets."""

from __future__ import annotations

from typing import Any

from django.conf import settings

from ultravect.service.records.lookup import layout_version, selected_keys, selected_rows, usual_of
from ultravect.service.records.models import Leg, RunKind
from ultravect.service.work.recorded import opened_connection
from ultravect.service.work.runs.attempts import attempt_names, job_of, run_facts


def _selection(leg: Leg) -> dict[str, Any]:
    """What says which rows ``leg`` rejected: their keys, or their places in files."""
    keys = selected_keys(leg)
    return {"keys": keys, "rows": {} if keys else selected_rows(leg)}


def task_of_outcome(leg: Leg) -> dict[str, Any]:
    """What a process is given that asks the target of a leg which of its attempts was committed: nothing of the source."""
    run, structure = leg.run, job_of(leg)
    return {
        "kind": "outcome",
        "run": str(run.pk),
        "leg": leg.number,
        "origin": {"run": str(run.origin_id)} if run.origin_id else None,
        "date": run_facts(run).date.isoformat(),
        "earlier": attempt_names(leg),
        "memory": settings.LEG_MEMORY_BYTES,
        "lost_after": settings.LOST_AFTER_SECONDS,
        "job": structure,
        "target": opened_connection(structure["into"]["connection"]),
    }


def task_of_leg(leg: Leg) -> dict[str, Any]:
    """What the leg process is given; secrets are opened here, and go only into its memory."""
    run, structure = leg.run, job_of(leg)
    origin = run.origin.legs.filter(number=leg.number).first() if run.origin else None
    if origin is not None:
        origin.run = run.origin
    named = structure["from"].get("layout")
    *earlier, receipt = attempt_names(leg)
    text = run.revision.text
    return {
        "kind": run.kind,
        "run": str(run.pk),
        "leg": leg.number,
        "origin": {"run": str(run.origin_id), "receipts": attempt_names(origin)} if origin else None,
        "selection": _selection(origin) if origin and run.kind == RunKind.REJECTS else None,
        "date": run_facts(run).date.isoformat(),
        "usual": usual_of(leg) if structure.get("guard") else {},
        "receipt": receipt,
        "earlier": earlier,
        "memory": settings.LEG_MEMORY_BYTES,
        "lost_after": settings.LOST_AFTER_SECONDS,
        "job": structure,
        "again": run.again,
        # fixes are edits of the text, which is of all legs where there are many
        "text": "" if leg.object else text,
        "layout": layout_version(named).structure if isinstance(named, str) else None,
        "source": opened_connection(structure["from"]["connection"], structure),
        "target": opened_connection(structure["into"]["connection"]),
        "cluster": settings.SLICES_CLUSTER or None,
    }


def task_together(tasks: list[dict[str, Any]]) -> dict[str, Any]:
    """What the process of all legs is given, from what each one's would be."""
    own = ("leg", "job", "receipt", "earlier", "layout", "text")
    return {
        **{name: value for name, value in tasks[0].items() if name not in own},
        "kind": "together",
        "legs": [{name: task[name] for name in own} for task in tasks],
    }
