"""Finds the legs of a run of a job with many objects, in a process of its own, and begins them."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from typing import Any

import structlog
from django.conf import settings
from django.db import transaction

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.legs import legs_of_facts
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.words import counted
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Leg, LegSearch, Run, RunKind, State
from ultravect.service.records.register import enter_seen
from ultravect.service.records.resolved import feed_name, source_name
from ultravect.service.work.processes.protocol import Processes, attended
from ultravect.service.work.recorded import opened_connection, recorded
from ultravect.service.work.runs.attempts import job_of_run, run_facts
from ultravect.service.work.runs.leases import NOT_ANSWERED
from ultravect.service.work.runs.notes import add_event
from ultravect.service.work.runs.retrying import pause_of
from ultravect.service.work.runs.transitions import (
    begin_legs,
    begin_run,
    end_without_legs,
    give_search_back,
    locked_run,
    renew_search,
    search_again,
)
from ultravect.service.work.workers.sites import sites_of_job

log = structlog.get_logger()
_ATTEMPTS = 3


async def find_legs(pool: Processes, run_id: int, lease: int) -> None:
    """Records and begins the legs of a run, which ends where there are none, or what is wrong does not let it go on.

    ``lease``: that of the search, which is given back where the service is stopped, or the process died.
    """
    renewing = asyncio.create_task(_renew(run_id, lease))
    try:
        task = await recorded(_task)(run_id)
        found = await _asked(pool, task) if task is not None else {}
        if found:
            await recorded(_record)(run_id, lease, found["facts"], found["findings"], found["files"])
        elif found is None:
            log.warning("the process that looked for legs died", run=run_id)
            await recorded(_died)(run_id, lease)
    except UltravectError as error:
        await recorded(_failed)(run_id, lease, error)
    except asyncio.CancelledError:
        with suppress(Exception):
            await recorded(give_search_back)(run_id, lease)
        raise
    finally:
        renewing.cancel()


async def _renew(run_id: int, lease: int) -> None:
    while True:
        await asyncio.sleep(settings.LOST_AFTER_SECONDS / 5)
        with suppress(*NOT_ANSWERED):
            await recorded(renew_search)(run_id, lease)


def _failed(run_id: int, lease: int, error: UltravectError) -> None:
    """Has the search be made again where the error passes by itself and the job says so; else the run fails."""
    search = LegSearch.objects.select_related("run__revision").filter(run_id=run_id, lease=lease).first()
    wait = pause_of(search.run, search.attempts, error.code) if search and not search.run.stop_requested else None
    if search is not None and wait is not None:
        search_again(search.run, lease, error, wait)
    else:
        _fail(run_id, error)


def _died(run_id: int, lease: int) -> None:
    search = LegSearch.objects.filter(run_id=run_id, lease=lease).first()
    if search is not None and search.attempts < _ATTEMPTS:
        give_search_back(run_id, lease)
    elif search is not None:
        detail = "the process that looked for the objects of the job died"
        _fail(run_id, UltravectError("worker-lost", detail, hint="run it again"))


async def _asked(pool: Processes, task: dict[str, Any]) -> dict[str, Any] | None:
    """What a process of its own says; None where it died."""
    found = None
    async with attended(pool, task) as process:
        await process.send(task)
        async for event in process.events():
            if event["kind"] == "laid_out":
                found = dict(event)
            if event["kind"] == "failed":
                raise UltravectError.from_dict(event["error"])
    return found


def known_objects_of(job: str) -> list[str] | None:
    """The objects of the last run of a job that copied all of them; None where there was none."""
    runs = Run.objects.filter(job__name=job, kind=RunKind.LOAD, only__isnull=True, legs__object__gt="")
    last = runs.order_by("-id").first()
    return list(last.legs.values_list("object", flat=True)) if last else None


@transaction.atomic
def _task(run_id: int) -> dict[str, Any] | None:
    """What the process is given; None where there is nothing left to be done."""
    run = locked_run(run_id)
    if State(run.state).ended or run.legs.exists():
        return None
    if run.stop_requested:
        end_without_legs(run, State.STOPPED, None)
        return None
    begin_run(run)
    structure, text = job_of_run(run), run.revision.text
    return {
        "kind": "legs",
        "run": str(run.pk),
        "date": run_facts(run).date.isoformat(),
        "memory": settings.LEG_MEMORY_BYTES,
        "lost_after": settings.LOST_AFTER_SECONDS,
        "job": structure,
        "text": text,
        # a feed has legs only for what is new
        "known": None if run.only is not None or feed_name(structure) else known_objects_of(run.job.name),
        "source": opened_connection(source_name(structure), structure),
        "target": opened_connection(structure["into"]["connection"]),
    }


@transaction.atomic
def _record(
    run_id: int, lease: int, facts: list[dict[str, Any]], findings: list[dict[str, Any]], files: list[dict[str, Any]]
) -> None:
    run = locked_run(run_id)
    search = LegSearch.objects.filter(run=run, lease=lease).first()
    if State(run.state).ended or run.legs.exists() or search is None:
        return
    legs = _legs_of(run, facts)
    if files:
        enter_seen(feed_name(run.revision.structure), files)
    for finding in findings:
        add_event(run, "finding", finding)
    if run.only is not None:
        wanted = set(run.only)
        findings = [*findings, *(_gone(name) for name in sorted(wanted - {leg["object"] for leg in legs}))]
        legs = [leg for leg in legs if leg["object"] in wanted]
    errors = [finding for finding in findings if finding["severity"] == "error"]
    if errors:
        more = f" ({counted(len(errors) - 1, 'more error')})" if len(errors) > 1 else ""
        first = errors[0]
        error = UltravectError(first["code"], first["message"] + more, hint=first["fix"], place=first["place"])
        if pause_of(run, search.attempts, error.code) is not None and not run.stop_requested:
            raise error  # it passes by itself: nothing of this search is kept
        _fail(run_id, error)
        return
    if not legs and not run.stop_requested:
        what = "no file is new" if feed_name(run.revision.structure) else "the job finds nothing to copy"
        add_event(run, "log", {"level": "info", "text": f"{what}: nothing was read, and nothing written"})
    if run.stop_requested or not legs:
        end_without_legs(run, State.STOPPED if run.stop_requested else State.SUCCEEDED, None)
        return
    search.delete()
    kept = {leg["number"] for leg in legs}
    Leg.objects.bulk_create(
        Leg(
            run=run,
            number=leg["number"],
            object=leg["object"][:500],
            source=leg["source"][:500],
            target=leg["target"][:500],
            structure=leg["job"],
            waits_for=[number for number in leg["after"] if number in kept],
        )
        for leg in legs
    )
    add_event(run, "legs", {"count": len(legs)})
    begin_legs(run.pk)


def _legs_of(run: Run, facts: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The legs of a run, from the job as it is stored and the names of what was found; UltravectError for what the job does not name."""
    structure = job_of_run(run)
    names = source_name(structure), structure["into"]["connection"]
    connections: dict[str, Connection | None] = {}
    source, target = (_described(name, connections) for name in names)
    legs = [leg.as_dict() for leg in legs_of_facts(job_from_data(structure), facts, source, target, run_facts(run))]
    reached = sites_of_job(structure, connections)
    for leg in legs:
        if other := sites_of_job(leg["job"], connections) - reached:
            raise UltravectError(
                "leg-elsewhere",
                f"{leg['object']} has a connection at the site {', '.join(sorted(other))}, which the job's own connections have not",
                hint="copy it by a job of its own",
                place=f"objects.{leg['object']}",
            )
    return legs


def _described(name: str, connections: dict[str, Connection | None]) -> ConnectionSpec:
    """A connection without its secrets: for its dialect alone."""
    found = connections[name] = find_connection(name)
    if found is None:
        raise UltravectError("connection-unknown", f"there is no connection {name!r} any more", hint="add it again")
    return ConnectionSpec(name, found.kind, dict(found.settings), settings.ROOTS)


def _gone(name: str) -> dict[str, Any]:
    return {
        "severity": "error",
        "code": "object-unknown",
        "message": f"{name!r} is none of the objects that the job finds now",
        "place": "from",
        "fix": "run the job without naming it",
    }


@transaction.atomic
def _fail(run_id: int, error: UltravectError) -> None:
    run = locked_run(run_id)
    if not State(run.state).ended:
        end_without_legs(run, State.FAILED, error)
