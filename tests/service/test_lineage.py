"""Events of OpenLineage: which columns came from which, to an address; lines of a file. Traces and logs of OpenTelemetry."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from devtools.stack import temporary_stack
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.logs.v1.logs_pb2 import LogRecord
from opentelemetry.proto.trace.v1.trace_pb2 import Span, Status
from standins.messages import WebhookCatcher
from tests.conftest import Place
from tests.service.test_schedules import _until

from ultravect.client import Client
from ultravect.service.work.outgoing.posting import append_line


def test_runs_say_which_columns_came_from_which() -> None:
    server, collector = WebhookCatcher(), WebhookCatcher()
    settings = {
        "ULTRAVECT_LINEAGE": server.url,
        "ULTRAVECT_LINEAGE_TOKEN": "t0ken",
        "OTEL_EXPORTER_OTLP_ENDPOINT": collector.url.removesuffix("/hook"),
        "OTEL_EXPORTER_OTLP_HEADERS": "authorization=Bearer c0llect",
    }
    try:
        with temporary_stack("lineage", settings=settings) as stack, Client(stack.url, token=stack.token) as client:
            place = Place(stack, client).file("a,b\n1,2\n")
            place.job(columns="[a integer, a + b as total integer]")
            server.status = 500
            assert place.run().state == "succeeded"
            _until(lambda: "could not be sent" in (stack.state / "service.log").read_text())
            server.status = 200
            assert place.run().state == "succeeded"
            place.job(columns="[missing]")
            place.run()
            _until(lambda: len(server.taken) == 4)
            _until(lambda: len(_runs_traced(collector, place.name)) == 3 and len(_logs(collector)) > 3)
            password, port = stack.warehouse["password"], stack.warehouse["port"]
    finally:
        server.close()
        collector.close()
    _are_traced(collector, place.name, str(password))
    assert {headers["Authorization"] for headers, _ in server.taken} == {"Bearer t0ken"}
    start, end, *_, failed = server.bodies()
    assert [start["eventType"], end["eventType"], failed["eventType"]] == ["START", "COMPLETE", "FAIL"]
    assert start["run"]["runId"] == end["run"]["runId"] != failed["run"]["runId"]
    assert end["job"] == {"namespace": "ultravect", "name": place.name}
    (source,), (target,) = end["inputs"], end["outputs"]
    assert (source["namespace"], source["name"].rpartition("/")[2]) == ("file", f"{place.name}.csv")
    assert (target["namespace"], target["name"]) == (f"postgres://127.0.0.1:{port}", f"warehouse.{place.name}")
    assert [field["name"] for field in source["facets"]["schema"]["fields"]] == ["a", "b"]
    fields = target["facets"]["columnLineage"]["fields"]
    assert {name: [item["field"] for item in found["inputFields"]] for name, found in fields.items()} == {
        "a": ["a"],
        "total": ["a", "b"],
    }
    assert target["outputFacets"]["outputStatistics"]["rowCount"] == 1
    assert "column-unknown" in failed["run"]["facets"]["errorMessage"]["message"]
    assert str(password) not in json.dumps(server.bodies())


def _spans(collector: WebhookCatcher) -> list[Span]:
    sent = [
        ExportTraceServiceRequest.FromString(body)
        for headers, body in collector.taken
        if headers[":path"] == "/v1/traces"
    ]
    return [span for item in sent for of in item.resource_spans for scope in of.scope_spans for span in scope.spans]


def _runs_traced(collector: WebhookCatcher, job: str) -> list[Span]:
    return [span for span in _spans(collector) if span.name == f"run {job}"]


def _logs(collector: WebhookCatcher) -> list[LogRecord]:
    sent = [
        ExportLogsServiceRequest.FromString(body)
        for headers, body in collector.taken
        if headers[":path"] == "/v1/logs"
    ]
    return [
        line for item in sent for of in item.resource_logs for scope in of.scope_logs for line in scope.log_records
    ]


def _are_traced(collector: WebhookCatcher, job: str, password: str) -> None:
    """Each run is a trace of its own: the run, its leg, and the phases of that, each within the one above it."""
    assert {headers["authorization"] for headers, _ in collector.taken} == {"Bearer c0llect"}
    spans = _spans(collector)
    runs = _runs_traced(collector, job)
    assert len(runs) == len({span.trace_id for span in spans}) == 3
    by_id = {span.span_id: span for span in spans}
    for span in spans:
        if span.parent_span_id:
            above = by_id[span.parent_span_id]
            assert above.trace_id == span.trace_id
            assert above.start_time_unix_nano <= span.start_time_unix_nano <= span.end_time_unix_nano
    failed = next(span for span in runs if span.status.code == Status.STATUS_CODE_ERROR)
    good = next(span for span in runs if span is not failed)
    assert failed.status.message == "column-unknown"
    names = [span.name for span in spans if span.trace_id == good.trace_id]
    assert {"leg 1", "phase read", "phase shape", "phase stage", "phase publish"} <= set(names)
    leg = next(span for span in spans if span.trace_id == good.trace_id and span.name == "leg 1")
    assert {item.key: item.value.int_value for item in leg.attributes}["ultravect.rows.inserted"] == 1
    lines = {line.body.string_value: {item.key for item in line.attributes} for line in _logs(collector)}
    assert {"run", "leg"} <= lines["leg ended"]
    assert not any(password.encode() in body for _, body in collector.taken)


def test_lines_of_several_writers_stay_whole(tmp_path: Path) -> None:
    path = tmp_path / "lineage.jsonl"
    with ThreadPoolExecutor(4) as writers:
        list(writers.map(lambda number: append_line(str(path), str(number).encode() * 5000), range(10, 50)))
    assert sorted(path.read_text().splitlines()) == [str(number) * 5000 for number in range(10, 50)]
