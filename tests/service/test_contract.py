"""What the API gives is what its description says: responses are validated against the OpenAPI schema."""

from __future__ import annotations

from typing import Any

import httpx
import jsonschema
import pytest
from devtools.stack import Stack
from tests.conftest import Place


@pytest.fixture(scope="module")
def description(stack: Stack) -> dict[str, Any]:
    found: dict[str, Any] = httpx.get(f"{stack.url}/api/openapi.json", headers={"Accept": "application/json"}).json()
    return found


def as_json_schema(schema: Any, description: dict[str, Any]) -> Any:
    """OpenAPI 3.0 writes ``nullable`` where JSON Schema has a type of its own."""
    if isinstance(schema, list):
        return [as_json_schema(item, description) for item in schema]
    if not isinstance(schema, dict):
        return schema
    if "$ref" in schema:
        name = schema["$ref"].rsplit("/", 1)[1]
        return as_json_schema(description["components"]["schemas"][name], description)
    plain = {key: as_json_schema(value, description) for key, value in schema.items() if key != "nullable"}
    return {"anyOf": [plain, {"type": "null"}]} if schema.get("nullable") else plain


CALLS = [
    ("GET", "/api/v1/session", None),
    ("GET", "/api/v1/tokens", None),
    ("GET", "/api/v1/connections", None),
    ("GET", "/api/v1/connections/{name}", {"name": "warehouse"}),
    ("POST", "/api/v1/connections/{name}/test", {"name": "warehouse"}),
    ("POST", "/api/v1/connections/{name}/ask", {"name": "warehouse"}),
    ("GET", "/api/v1/jobs", None),
    ("GET", "/api/v1/jobs/{name}", {}),
    ("GET", "/api/v1/jobs/{name}/revisions", {}),
    ("POST", "/api/v1/jobs/{name}/check", {}),
    ("POST", "/api/v1/jobs/{name}/runs", {}),
    ("GET", "/api/v1/runs", None),
    ("GET", "/api/v1/runs/{number}", {}),
    ("GET", "/api/v1/runs/{number}/rejects", {}),
    ("GET", "/api/v1/runs/{number}/events", {}),
]


@pytest.mark.parametrize(("method", "path", "values"), CALLS)
def test_responses_are_as_described(
    method: str, path: str, values: dict[str, str] | None, place: Place, stack: Stack, description: dict[str, Any]
) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    place.file("a\n1\nx\n").job(into="rejects: 1")
    run = place.run()
    address = path
    for key, value in {"name": place.name, "number": str(run.id), **(values or {})}.items():
        address = address.replace(f"{{{key}}}", value)
    body = {"sql": "select 1 as a"} if path.endswith("/ask") else None
    headers = {"Authorization": f"Bearer {stack.token}"}
    response = httpx.request(method, f"{stack.url}{address}", headers=headers, json=body)
    operation = description["paths"][path][method.lower()]
    shown = operation["responses"][str(response.status_code)]["content"]["application/json"]["schema"]
    schema = as_json_schema(shown, description)
    jsonschema.validate(response.json(), schema)
    # and the description is not so loose that anything would do
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate("nonsense", schema)


def test_every_address_is_described_with_a_summary(description: dict[str, Any]) -> None:
    for path, operations in description["paths"].items():
        for method, operation in operations.items():
            assert operation.get("summary"), (method, path)
            assert operation.get("tags") != ["api"], (method, path)
