"""Which columns of which tables and files came from which others: events of the open standard OpenLineage, one pair for each run that ended.

Specification: https://openlineage.io/spec/2-0-2/OpenLineage.json
"""

from __future__ import annotations

import datetime as dt
import json
import uuid
from collections.abc import Iterator
from typing import Any

import httpx
import structlog
from django.conf import settings

from ultravect import __version__
from ultravect.core.engine.plan.leg_plan import ColumnPlan, FilesPlan, LegPlan
from ultravect.core.expressions.tree import names_in
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Leg, Run, State
from ultravect.service.work.outgoing.posting import append_line, post
from ultravect.service.work.runs.attempts import attempt_name, job_of

log = structlog.get_logger()
_PRODUCER = f"https://github.com/ultravect/ultravect/{__version__}"
_SPEC = "https://openlineage.io/spec"
_ENDS = {State.SUCCEEDED: "COMPLETE", State.FAILED: "FAIL", State.STOPPED: "ABORT"}
# names of places, as the standard has them
_SCHEMES = {"postgresql": "postgres", "mariadb": "mysql", "sqlserver": "mssql", "objectstore": "s3", "folder": "file"}


def send(number: int) -> None:
    """Sends the events of a run that has ended. What cannot be sent is said in the log, and not sent again."""
    run = Run.objects.select_related("job", "revision").filter(pk=number).first()
    if run is None:
        return
    try:
        for event in events_of(run):
            _deliver(settings.LINEAGE, event)
    except (OSError, httpx.HTTPError, ValueError) as error:
        reason = " ".join(str(error).split())[:300] or type(error).__name__
        log.warning("lineage of a run could not be sent", run=number, reason=reason)


def _deliver(place: str, event: dict[str, Any]) -> None:
    if "://" not in place:
        append_line(place, json.dumps(event).encode())
        return
    headers = {"Authorization": f"Bearer {settings.LINEAGE_TOKEN}"} if settings.LINEAGE_TOKEN else {}
    headers["Content-Type"] = "application/json"
    post(place, json.dumps(event).encode(), headers)


def events_of(run: Run) -> list[dict[str, Any]]:
    """The start and the end of a run that has ended."""
    inputs: dict[tuple[str, str], dict[str, Any]] = {}
    outputs: dict[tuple[str, str], dict[str, Any]] = {}
    for leg in Leg.objects.defer(None).filter(run=run).select_related("run__revision", "run__job").order_by("number"):
        for source, target in _datasets(leg):
            inputs[source["namespace"], source["name"]] = source
            outputs[target["namespace"], target["name"]] = target
    common = {
        "producer": _PRODUCER,
        "schemaURL": f"{_SPEC}/2-0-2/OpenLineage.json#/$defs/RunEvent",
        "run": {
            "runId": str(uuid.uuid5(uuid.NAMESPACE_URL, f"ultravect:{attempt_name(run, 1)}")),
            "facets": _facets(run),
        },
        "job": {"namespace": settings.LINEAGE_NAMESPACE, "name": run.job.name},
        "inputs": list(inputs.values()),
        "outputs": list(outputs.values()),
    }
    started, ended = run.started_at or run.queued_at, run.ended_at or run.queued_at
    return [
        {**common, "eventType": "START", "eventTime": _time(started)},
        {**common, "eventType": _ENDS[State(run.state)], "eventTime": _time(ended)},
    ]


def _time(moment: dt.datetime) -> str:
    return moment.isoformat()


def _facet(name: str, version: str, **values: Any) -> dict[str, Any]:
    return {"_producer": _PRODUCER, "_schemaURL": f"{_SPEC}/facets/{version}/{name}.json", **values}


def _facets(run: Run) -> dict[str, Any]:
    found: dict[str, Any] = {}
    if run.scheduled_for is not None:
        found["nominalTime"] = _facet("NominalTimeRunFacet", "1-0-1", nominalStartTime=_time(run.scheduled_for))
    if run.error:
        said = f"{run.error.get('code')}: {run.error.get('detail')}"
        found["errorMessage"] = _facet("ErrorMessageRunFacet", "1-0-1", message=said, programmingLanguage="SQL")
    return found


def _datasets(leg: Leg) -> Iterator[tuple[dict[str, Any], dict[str, Any]]]:
    """What a leg has read and written, as far as it came to a plan."""
    if leg.plan is None:
        return
    plan = LegPlan.from_json(leg.plan)
    job = job_of(leg)
    label = plan.source.path if isinstance(plan.source, FilesPlan) else plan.source.label
    source = _dataset(job["from"]["connection"], label)
    target = _dataset(job["into"]["connection"], str(plan.table))
    names = (
        plan.source.names if isinstance(plan.source, FilesPlan) else [column.name for column in plan.source.columns]
    )
    source["facets"] = {"schema": _schema([{"name": name} for name in names])}
    written = [{"name": column.name, "type": column.native or str(column.type)} for column in plan.columns]
    lineage = {
        column.name: {
            "inputFields": [
                {"namespace": source["namespace"], "name": source["name"], "field": name} for name in _from(column)
            ]
        }
        for column in plan.columns
    }
    target["facets"] = {
        "schema": _schema(written),
        "columnLineage": _facet("ColumnLineageDatasetFacet", "1-2-0", fields=lineage),
    }
    if leg.tally:
        rows = leg.tally.get("inserted", 0) + leg.tally.get("updated", 0)
        target["outputFacets"] = {
            "outputStatistics": _facet("OutputStatisticsOutputDatasetFacet", "1-0-2", rowCount=rows)
        }
    yield source, target


def _from(column: ColumnPlan) -> list[str]:
    if column.expression is None:
        return [column.source]
    return list(dict.fromkeys(name.name for name in names_in(column.expression)))


def _schema(fields: list[dict[str, Any]]) -> dict[str, Any]:
    return _facet("SchemaDatasetFacet", "1-1-1", fields=fields)


def _dataset(connection: str, name: str) -> dict[str, Any]:
    """A table or file, by the names of the standard; secrets are in none of them."""
    known = find_connection(connection)
    if known is None:
        return {"namespace": connection, "name": name}
    given = known.settings
    scheme = _SCHEMES.get(known.kind, known.kind)
    if given.get("host"):
        port = f":{given['port']}" if given.get("port") else ""
        whole = f"{given['database']}.{name}" if given.get("database") else name
        return {"namespace": f"{scheme}://{given['host']}{port}", "name": whole}
    if given.get("bucket"):
        return {"namespace": f"s3://{given['bucket']}", "name": f"{given.get('prefix') or ''}{name}"}
    path = given.get("path") or given.get("folder") or ""
    return {"namespace": scheme, "name": f"{path}/{name}" if path else name}
