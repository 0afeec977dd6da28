"""What the generator of the OpenAPI description cannot see by itself: the one view that is not REST framework's."""

from __future__ import annotations

from typing import Any

_EVENT = {
    "type": "object",
    "required": ["id", "kind", "at", "data"],
    "properties": {
        "id": {"type": "integer"},
        "kind": {
            "type": "string",
            "enum": ["state", "phase", "progress", "log", "finding", "rejects", "end"],
        },
        "at": {"type": "string", "format": "date-time"},
        "data": {"type": "object", "additionalProperties": {}},
    },
}
_EVENTS_OPERATION = {
    "operationId": "runs_events",
    "summary": "A run's events: those there are, or a stream until it ends",
    "description": "With `Accept: text/event-stream` as Server-Sent Events, taken up again by `Last-Event-ID`.",
    "tags": ["runs"],
    "security": [{"token": []}, {"cookieAuth": []}],
    "parameters": [
        {"in": "path", "name": "number", "required": True, "schema": {"type": "integer"}},
        {"in": "query", "name": "after", "schema": {"type": "integer"}, "description": "Only events after this id"},
        {"in": "header", "name": "Last-Event-ID", "schema": {"type": "integer"}},
    ],
    "responses": {
        "200": {
            "description": "",
            "content": {
                "application/json": {
                    "schema": {
                        "type": "object",
                        "required": ["items"],
                        "properties": {"items": {"type": "array", "items": _EVENT}},
                    }
                },
                "text/event-stream": {"schema": {"type": "string"}},
            },
        }
    },
}


def add_events(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """A postprocessing hook of drf-spectacular."""
    result["paths"]["/api/v1/runs/{number}/events"] = {"get": _EVENTS_OPERATION}
    result["paths"] = dict(sorted(result["paths"].items()))
    return result
