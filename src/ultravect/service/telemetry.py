"""The service's own log, sent on by OpenTelemetry where an endpoint is set; traces of runs are made in ``work/outgoing/traces.py``."""

from __future__ import annotations

import functools
import os
import time
from collections.abc import MutableMapping
from typing import TYPE_CHECKING, Any

from ultravect import __version__

if TYPE_CHECKING:
    import requests
    from opentelemetry._logs import Logger
    from opentelemetry.sdk.resources import Resource

_ENDPOINT = "OTEL_EXPORTER_OTLP_{}ENDPOINT"


def is_sent(what: str) -> bool:
    """Whether there is an endpoint for ``traces`` or ``logs``."""
    if os.environ.get("OTEL_SDK_DISABLED", "").lower() == "true":
        return False
    return any(os.environ.get(_ENDPOINT.format(part)) for part in ("", f"{what.upper()}_"))


@functools.cache
def resource() -> Resource:
    from opentelemetry.sdk.resources import Resource

    # OTEL_RESOURCE_ATTRIBUTES adds others; these two it does not change
    return Resource.create(
        {"service.name": os.environ.get("OTEL_SERVICE_NAME", "ultravect"), "service.version": __version__}
    )


def direct_session() -> requests.Session:
    """What an exporter sends by: to the address that is set, and not to where that redirects, which would get the headers and what is sent."""
    import requests

    class Direct(requests.Session):
        def request(self, *arguments: Any, **options: Any) -> requests.Response:
            return super().request(*arguments, **{**options, "allow_redirects": False})

    return Direct()


@functools.cache
def _logger() -> Logger:
    from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
    from opentelemetry.sdk._logs import LoggerProvider
    from opentelemetry.sdk._logs.export import BatchLogRecordProcessor

    provider = LoggerProvider(resource=resource(), shutdown_on_exit=True)
    provider.add_log_record_processor(
        BatchLogRecordProcessor(OTLPLogExporter(session=direct_session()), schedule_delay_millis=2_000)
    )
    return provider.get_logger("ultravect")


def sent_on(_: Any, method: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """A processor of structlog that hands each line to the exporter, and passes it on as it is."""
    from opentelemetry._logs import SeverityNumber

    severity = {
        "debug": SeverityNumber.DEBUG,
        "info": SeverityNumber.INFO,
        "warning": SeverityNumber.WARN,
        "error": SeverityNumber.ERROR,
        "critical": SeverityNumber.FATAL,
    }.get(str(event.get("level", method)), SeverityNumber.INFO)
    attributes = {
        name: value if isinstance(value, bool | int | float) else str(value)
        for name, value in event.items()
        if name not in ("event", "level", "timestamp")
    }
    now = time.time_ns()
    _logger().emit(
        timestamp=now,
        observed_timestamp=now,
        severity_number=severity,
        severity_text=str(event.get("level", method)),
        body=str(event.get("event", "")),
        attributes=attributes,
    )
    return event
