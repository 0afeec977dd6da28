"""What the generator of the OpenAPI description cannot see by itself: the one view that is not REST framework's."""

from __future__ import annotations

from typing import Any

_EVENT = {
    "type": "object",
    "required": ["id", "kind", "at", "leg", "data"],
    "properties": {
        "id": {
            "type": "integer",
            "nullable": True,
            "description": "null of `progress`, which is in the stream alone: how far a leg is now.",
        },
        "kind": {
            "type": "string",
            "enum": [
                "state",
                "legs",
                "leg",
                "phase",
                "progress",
                "log",
                "finding",
                "planned",
                "rejects",
                "read_again",
                "slices",
                "slice",
                "changes",
                "published",
                "end",
            ],
        },
        "at": {"type": "string", "format": "date-time"},
        "leg": {"type": "integer", "nullable": True, "description": "The number of the leg that it is of."},
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
        {"in": "path", "name": "number", "required": True, "schema": {"type": "integer", "minimum": 0}},
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
                        "properties": {
                            "items": {"type": "array", "items": {"$ref": "#/components/schemas/RunEvent"}}
                        },
                    }
                },
                "text/event-stream": {"schema": {"type": "string"}},
            },
        }
    },
}


_PROBLEM = {
    "type": "object",
    "description": "What went wrong (RFC 9457).",
    "required": ["type", "title", "status", "code", "detail"],
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "code": {"type": "string", "description": "Stable, and explained in the documentation of messages."},
        "detail": {"type": "string"},
        "hint": {"type": "string", "description": "What to do."},
        "where": {"type": "object", "additionalProperties": {}},
        "errors": {"type": "array", "items": {"$ref": "#/components/schemas/FieldProblem"}},
    },
    "additionalProperties": {},
}
_FIELD_PROBLEM = {
    "type": "object",
    "description": "One thing wrong in what was sent.",
    "required": ["pointer", "message"],
    "properties": {
        "pointer": {"type": "string", "description": "JSON Pointer to it."},
        "message": {"type": "string"},
        "hint": {"type": "string"},
        "line": {"type": "integer", "description": "In the file that was sent."},
        "edit": {"$ref": "#/components/schemas/Edit"},
    },
    "additionalProperties": {},
}
_ALWAYS = {
    "400": "The request cannot be read.",
    "401": "No one is signed in, or the token is not good any more.",
    "403": "The role does not allow it.",
    "404": "There is no such thing.",
    "405": "The address has no such method.",
    "406": "None of the accepted media types can be given.",
    "408": "The body came too slowly.",
    "409": "As things are now, it cannot be done.",
    "413": "The body is too large.",
    "422": "It was understood and cannot be done: a value is wrong, or what it is about does not allow it.",
    "429": "Too many requests of this kind; Retry-After says when to try again.",
    "503": "The service's own database does not answer at this moment; Retry-After says when to try again.",
}
_WITH_BODY = {"415": "The body's media type is not taken."}
_WITH_MATCH = {"412": "It was changed by someone else.", "428": "Say with If-Match which version is meant."}
_ADDRESSES = "/api/v1/"


def add_problems(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """A postprocessing hook of drf-spectacular: the errors that every operation may answer with, and bounds of numbers."""
    result["components"]["schemas"] |= {"Problem": _PROBLEM, "FieldProblem": _FIELD_PROBLEM}
    content = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    for path, operations in result["paths"].items():
        for method, operation in operations.items():
            if not path.startswith(_ADDRESSES):
                continue
            errors = {**_ALWAYS, **(_WITH_BODY if method in ("post", "put", "patch") else {})}
            if method == "put":
                errors |= _WITH_MATCH
            for status, description in errors.items():
                operation["responses"].setdefault(status, {"description": description, "content": content})
            for parameter in operation.get("parameters", ()):
                _bound(parameter)
    return result


def _bound(parameter: dict[str, Any]) -> None:
    schema = parameter["schema"]
    if parameter["name"] in _BOUNDS:
        schema |= _BOUNDS[parameter["name"]]
    elif schema.get("type") == "integer" and parameter["in"] == "path":
        schema |= {"minimum": 0, "maximum": 2**31 - 1}


_BOUNDS: dict[str, dict[str, Any]] = {
    "page": {"minimum": 1},
    "page_size": {"minimum": 1, "maximum": 200},
    "limit": {"minimum": 1, "maximum": 10_000},
    "object": {"minLength": 1},
}


def add_events(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """A postprocessing hook of drf-spectacular."""
    result["components"]["schemas"]["RunEvent"] = _EVENT
    result["paths"]["/api/v1/runs/{number}/events"] = {"get": _EVENTS_OPERATION}
    result["paths"] = dict(sorted(result["paths"].items()))
    return result
