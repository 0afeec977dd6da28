"""Which job reads and writes which object, and which column came from which: by the declared jobs and the plans of their last runs."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

from django.db.models import Max

from ultravect.core.engine.plan.leg_plan import FilesPlan, LegPlan
from ultravect.core.expressions.parse import parse_item
from ultravect.core.expressions.tree import Item, names_in
from ultravect.core.kinds.registry import kinds
from ultravect.core.model.jobs.job import placeholders
from ultravect.core.patterns import has_pattern, matcher
from ultravect.service.records.lookup import model_of
from ultravect.service.records.models import Connection, Job, Leg, Run, RunKind, State
from ultravect.service.records.resolved import feed_name, find_feed

MOST_LEGS = 500
"""Of one job; what it has beyond is not drawn."""

MOST_STEPS = 500
"""From a column to its origins and uses."""


@dataclass(frozen=True)
class Object:
    """A table, a file, a pattern of files or a query, as jobs name it."""

    connection: str
    name: str
    is_query: bool = False

    @property
    def id(self) -> str:
        return f"{self.connection}:{self.name}"


@dataclass(frozen=True)
class ColumnStep:
    """One column of a target, and the columns of the source that its job makes it of."""

    job: str
    source: str
    source_columns: tuple[str, ...]
    target: str
    target_column: str
    expression: str


class _Places:
    """Objects by one name each, however jobs write it: the schema that tables are in without one is left out."""

    def __init__(self) -> None:
        known = kinds()
        self._usual = {
            name: known[kind].usual_schema
            for name, kind in Connection.objects.values_list("name", "kind")
            if kind in known
        }

    def object(self, connection: str, name: str) -> Object:
        usual = self._usual.get(connection, "")
        return Object(connection, name.removeprefix(f"{usual}.") if usual else name)


def job_map() -> dict[str, Any]:
    """Objects, and jobs with what they read and write, how their last run went, and for which jobs they wait."""
    places = _Places()
    jobs = list(Job.objects.filter(deleted_at=None).select_related("stream").order_by("name"))
    runs = _last_runs(jobs)
    legs = _legs_of({run.pk for run in runs.values()})
    objects: dict[str, Object] = {}
    drawn = []
    for job in jobs:
        run = runs.get(job.pk)
        reads, writes = _ends(job, places, legs.get(run.pk, []) if run else [])
        for one in (*reads, *writes):
            objects[one.id] = one
        stream = getattr(job, "stream", None)
        drawn.append(
            {
                "name": job.name,
                "reads": [one.id for one in reads],
                "writes": [one.id for one in writes],
                "after": list(model_of(job.revision).run.after),
                "state": stream.state if stream is not None else run.state if run else "",
                "run": run.pk if run and stream is None else None,
                "at": stream.changed_at if stream is not None else run.ended_at or run.queued_at if run else None,
                "is_stream": stream is not None,
            }
        )
    return {
        "objects": [{"id": one.id, **asdict(one)} for one in objects.values()],
        "jobs": drawn,
        "same": _same_files(list(objects.values())),
    }


def _last_runs(jobs: list[Job]) -> dict[int, Run]:
    newest = (
        Run.objects.filter(job_id__in=[job.pk for job in jobs], kind=RunKind.LOAD)
        .values("job_id")
        .annotate(last=Max("id"))
        .order_by()
    )
    found = Run.objects.in_bulk([one["last"] for one in newest])
    return {run.job_id: run for run in found.values()}


def _legs_of(runs: set[int]) -> dict[int, list[tuple[str, str]]]:
    """Sources and targets of the legs of runs, as connection:object."""
    found: dict[int, list[tuple[str, str]]] = defaultdict(list)
    for run, source, target in (
        Leg.objects.filter(run_id__in=runs).order_by("number").values_list("run_id", "source", "target")
    ):
        if len(found[run]) < MOST_LEGS:
            found[run].append((source, target))
    return found


def _ends(job: Job, places: _Places, legs: list[tuple[str, str]]) -> tuple[list[Object], list[Object]]:
    """What a job reads and writes: by its last run, of a job with many objects; else as it declares it."""
    model = model_of(job.revision)
    source, into = model.source, model.into
    target = places.object(into.connection, into.object_name)
    if feed := feed_name(job.revision.structure):
        known = find_feed(feed)
        connection = str(known.revision.structure["connection"]) if known else ""
        return [Object(connection, f"feed {feed}")], [target]
    if source.query is not None:
        return [_query(source.connection, source.query)], [target]
    if model.has_many and legs:
        reads, writes = zip(*legs, strict=True)
        return _each(places, reads), _each(places, writes)
    named = source.table or source.files or ", ".join(source.tables or [])
    return [places.object(source.connection, named)], [target]


def _each(places: _Places, labels: tuple[str, ...]) -> list[Object]:
    found = {}
    for label in labels:
        connection, _, name = label.partition(":")
        one = places.object(connection, name)
        found[one.id] = one
    return list(found.values())


def _same_files(objects: list[Object]) -> list[list[str]]:
    """Pairs of written and read files that are the same where a name has a placeholder or is a pattern: ``[written, read]``."""
    pairs = []
    for written in objects:
        if not placeholders(written.name):
            continue
        example = re.sub(r"\{\w+\}", "x", written.name)
        pairs += [
            [written.id, read.id]
            for read in objects
            if read.connection == written.connection and has_pattern(read.name) and matcher(read.name)(example)
        ]
    return pairs


def column_steps(connection: str, name: str, column: str) -> list[ColumnStep]:
    """From where a column of an object comes, and what is made of it, step by step, the nearest first."""
    places = _Places()
    into: dict[tuple[str, str], list[ColumnStep]] = defaultdict(list)
    out: dict[tuple[str, str], list[ColumnStep]] = defaultdict(list)
    for step in _all_steps(places):
        into[step.target, step.target_column].append(step)
        for one in step.source_columns:
            out[step.source, one].append(step)
    start = (places.object(connection, name).id, column)
    found: dict[ColumnStep, None] = {}
    for known, ahead in ((into, False), (out, True)):
        waiting, seen = [start], {start}
        while waiting and len(found) < MOST_STEPS:
            here = waiting.pop(0)
            for step in known[here]:
                found[step] = None
                ends = (
                    [(step.target, step.target_column)]
                    if ahead
                    else [(step.source, one) for one in step.source_columns]
                )
                waiting += [end for end in ends if end not in seen]
                seen.update(ends)
    return list(found)


def _all_steps(places: _Places) -> Iterator[ColumnStep]:
    newest = (
        Run.objects.filter(job__deleted_at=None, kind=RunKind.LOAD, state=State.SUCCEEDED)
        .values("job_id")
        .annotate(last=Max("id"))
        .order_by()
    )
    legs = Leg.objects.defer(None).filter(run_id__in=[one["last"] for one in newest], plan__isnull=False)
    for leg in legs.select_related("run__job").order_by("run_id", "number").iterator(chunk_size=50):
        if leg.number > MOST_LEGS or leg.plan is None:
            continue
        plan = LegPlan.from_json(leg.plan)
        source = _read_by(plan, places).id
        target = places.object(str(plan.job["into"]["connection"]), str(plan.table)).id
        for column in plan.columns:
            names = (
                [column.source]
                if column.expression is None
                else list(dict.fromkeys(one.name for one in names_in(column.expression)))
            )
            computed = "" if column.expression is None else _written(plan, column.name)
            yield ColumnStep(leg.run.job.name, source, tuple(names), target, column.name, computed)


def _read_by(plan: LegPlan, places: _Places) -> Object:
    source = plan.job["from"]
    if source.get("query"):
        return _query(source["connection"], source["query"])
    label = plan.source.path if isinstance(plan.source, FilesPlan) else plan.source.label
    return places.object(str(source["connection"]), label)


def _query(connection: str, query: str) -> Object:
    return Object(connection, " ".join(query.split())[:200], is_query=True)


def _written(plan: LegPlan, name: str) -> str:
    """The item of the job's select list that computes a column."""
    for text in plan.job.get("columns") or []:
        item = parse_item(str(text), "columns")
        if isinstance(item, Item) and item.name == name:
            return str(text)
    return "computed"
