"""Runs as traces of OpenTelemetry: a span for the run, its legs, their slices and phases, sent once the run has ended.

Where they are sent, and how, say the variables of the standard: OTEL_EXPORTER_OTLP_ENDPOINT and its relatives.
https://opentelemetry.io/docs/specs/otel/protocol/exporter/
"""

from __future__ import annotations

import datetime as dt
import functools
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import structlog

from ultravect.service.records.models import Leg, Run, State
from ultravect.service.telemetry import direct_session, resource

if TYPE_CHECKING:
    from opentelemetry.trace import Span, Tracer

log = structlog.get_logger()
_WAITS_MS = 2_000


@functools.cache
def _tracer() -> Tracer:
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor

    provider = TracerProvider(resource=resource(), shutdown_on_exit=True)
    provider.add_span_processor(
        BatchSpanProcessor(OTLPSpanExporter(session=direct_session()), schedule_delay_millis=_WAITS_MS)
    )
    return provider.get_tracer("ultravect")


def send_trace(number: int) -> None:
    """Hands the spans of a run that has ended to the exporter, which sends them a little later and drops what no one takes."""
    run = Run.objects.select_related("job", "revision").filter(pk=number).first()
    if run is None:
        return
    try:
        _spans_of_run(_tracer(), run)
    except (ValueError, TypeError, KeyError) as error:
        log.warning("the trace of a run could not be made", run=number, reason=f"{type(error).__name__}: {error}")


def _spans_of_run(tracer: Tracer, run: Run) -> None:
    from opentelemetry import context

    attributes = {
        "ultravect.run.id": run.pk,
        "ultravect.job": run.job.name,
        "ultravect.revision": run.revision.number,
        "ultravect.kind": run.kind,
        "ultravect.trigger": run.trigger,
        "ultravect.queued_seconds": ((run.started_at or run.queued_at) - run.queued_at).total_seconds(),
    }
    began = run.started_at or run.queued_at
    whole = tracer.start_span(f"run {run.job.name}", context.Context(), attributes=attributes, start_time=_ns(began))
    for leg in run.legs.order_by("number").prefetch_related("slices"):
        if leg.started_at is not None and leg.ended_at is not None:
            _spans_of_leg(tracer, whole, leg)
    _end(whole, run, run.ended_at or began)


def _spans_of_leg(tracer: Tracer, whole: Span, leg: Leg) -> None:
    assert leg.started_at is not None
    assert leg.ended_at is not None
    counts = {f"ultravect.rows.{name}": count for name, count in (leg.tally or {}).items() if isinstance(count, int)}
    attributes = {
        "ultravect.leg": leg.number,
        "ultravect.source": leg.source,
        "ultravect.target": leg.target,
        "ultravect.worker": leg.worker,
        "ultravect.attempts": leg.attempts,
        "ultravect.strategy": leg.strategy,
        **counts,
    }
    span = _below(tracer, whole, f"leg {leg.number} {leg.object}".rstrip(), attributes, leg.started_at)
    for phase in leg.phases:
        if phase.get("started_at") and phase.get("ended_at"):
            part = _below(
                tracer,
                span,
                f"phase {phase['name']}",
                {"ultravect.state": phase["state"]},
                _moment(phase["started_at"]),
            )
            part.end(_ns(_moment(phase["ended_at"])))
    for piece in leg.slices.all():
        if piece.started_at and piece.ended_at:
            about = {
                "ultravect.slice": piece.number,
                "ultravect.label": piece.label,
                "ultravect.worker": piece.worker,
            }
            part = _below(tracer, span, f"slice {piece.number}", about, piece.started_at)
            part.end(_ns(piece.ended_at))
    _end(span, leg, leg.ended_at)


def _below(tracer: Tracer, parent: Span, name: str, attributes: Mapping[str, Any], began: dt.datetime) -> Span:
    from opentelemetry import trace

    return tracer.start_span(name, trace.set_span_in_context(parent), attributes=attributes, start_time=_ns(began))


def _end(span: Span, what: Run | Leg, at: dt.datetime) -> None:
    from opentelemetry.trace import Status, StatusCode

    span.set_attribute("ultravect.state", what.state)
    span.set_attribute("ultravect.outcome", what.outcome)
    if what.state == State.FAILED:
        error = what.error or {}
        # the code alone: details name objects and values, which need not leave the records
        span.set_attribute("error.type", str(error.get("code", "unknown")))
        span.set_status(Status(StatusCode.ERROR, str(error.get("code", "unknown"))))
    span.end(_ns(at))


def _moment(text: str) -> dt.datetime:
    return dt.datetime.fromisoformat(text)


def _ns(moment: dt.datetime) -> int:
    """Nanoseconds since 1970."""
    return int(moment.timestamp() * 1_000_000) * 1000
