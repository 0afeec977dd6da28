"""Writes the types of the client and of the console from the description of the API, by two well-known generators."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
CLIENT = ROOT / "src" / "ultravect" / "client" / "generated.py"
CONSOLE = ROOT / "console" / "src" / "lib" / "answers.ts"
ASYNC = ROOT / "src" / "ultravect" / "client" / "asynchronous.py"
_SCHEMAS = "#/components/schemas/"
# what Python code reads by keys: dictionaries, with values of this type
_MAPPINGS: Mapping[str, Mapping[str, Any]] = {
    "Tally": {"type": "integer"},
    **{
        name: {}
        for name in ("Phase", "Progress", "Error", "Strategy", "CheckColumn", "TargetColumn", "RejectedRow", "SeenColumn",
                     "StoredObject", "BadRow", "FieldProblem")
    },
}  # fmt: skip


def description() -> dict[str, Any]:
    """The OpenAPI document of the service."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ultravect.service.settings")
    os.environ.setdefault("ULTRAVECT_KEY", "k" * 43)
    import django

    django.setup()
    from drf_spectacular.generators import SchemaGenerator  # which asks for settings when it is imported

    found: dict[str, Any] = SchemaGenerator().get_schema(request=None, public=True)
    return json.loads(json.dumps(found, default=str))


def client_models(document: Mapping[str, Any]) -> str:
    """Python models of what the service answers with."""
    schemas = document["components"]["schemas"]
    answers = {name: schemas[name] for name in sorted(_answered(document, schemas)) if name not in _MAPPINGS}
    answers = {name: _plain(entry, schemas) for name, entry in answers.items() if not name.startswith("Paginated")}
    reduced = {"openapi": "3.0.3", "info": document["info"], "paths": {}, "components": {"schemas": answers}}
    with tempfile.TemporaryDirectory() as folder:
        source, made = Path(folder) / "api.json", Path(folder) / "generated.py"
        source.write_text(json.dumps(reduced))
        options = [
            "--input-file-type", "openapi", "--output-model-type", "pydantic_v2.BaseModel", "--target-python-version", "3.11",
            "--use-union-operator", "--use-standard-collections", "--base-class", "ultravect.client.base.Given", "--strict-nullable",
            "--use-schema-description", "--use-field-description", "--disable-timestamp", "--use-double-quotes",
            "--formatters", "builtin", "--output-datetime-class", "datetime", "--disable-future-imports",
        ]  # fmt: skip
        command = [sys.executable, "-m", "datamodel_code_generator", "--input", str(source), "--output", str(made)]
        subprocess.run([*command, *options], check=True, stdout=subprocess.DEVNULL)
        text = made.read_text()
        text = re.sub(r"\A(#.*\n)+", "", text)
        head = '"""What the service answers with: written by `./dev api` from the OpenAPI document. Do not edit."""\n'
        made.write_text(head + "\nfrom __future__ import annotations\n" + text)
        for tidied in (["check", "--select", "I,F401,UP", "--fix", "-q"], ["format", "-q"]):
            subprocess.run(
                [sys.executable, "-m", "ruff", *tidied, "--config", str(ROOT / "pyproject.toml"), str(made)],
                check=True,
            )
        return made.read_text()


def console_types(document: Mapping[str, Any]) -> str:
    """TypeScript types of what the service answers with."""
    schemas = document["components"]["schemas"]
    answers = {
        name: entry for name, entry in schemas.items() if name in _answered(document, schemas) or "enum" in entry
    }
    reduced = {**document, "paths": {}, "components": {"schemas": _writable(answers)}}
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder) / "api.json"
        source.write_text(json.dumps(reduced))
        command = ["npx", "--no-install", "openapi-typescript", str(source), "--alphabetize"]
        done = subprocess.run(command, cwd=ROOT / "console", check=True, capture_output=True, text=True)
    return "// Written by `./dev api` from the OpenAPI document. Do not edit.\n" + done.stdout


def _writable(value: Any) -> Any:
    """Without what says that a field is only given: the console changes what it shows while events come."""
    if isinstance(value, list):
        return [_writable(item) for item in value]
    if isinstance(value, dict):
        return {key: _writable(entry) for key, entry in value.items() if key != "readOnly" or isinstance(entry, dict)}
    return value


def write() -> None:
    """Writes all of them anew."""
    document = description()
    CLIENT.write_text(client_models(document))
    CONSOLE.write_text(console_types(document))
    # by the methods as they are now, in a process that has not loaded them before
    made = subprocess.run(
        [sys.executable, "-c", "from devtools.async_client import made; print(made(), end='')"],
        cwd=ROOT, check=True, capture_output=True, text=True,
    )  # fmt: skip
    ASYNC.write_text(made.stdout)


def _answered(document: Mapping[str, Any], schemas: Mapping[str, Any]) -> set[str]:
    """Names of all schemas that answers are made of."""
    found: set[str] = set()
    todo = [
        name
        for operations in document["paths"].values()
        for operation in operations.values()
        for answer in operation["responses"].values()
        for name in _named(answer)
    ]
    while todo:
        name = todo.pop()
        if name not in found:
            found.add(name)
            todo += _named(schemas[name])
    return {name for name in found if "enum" not in schemas[name]}


def _named(value: Any) -> Iterator[str]:
    """Names of the schemas that a part of the document refers to."""
    if isinstance(value, dict):
        if isinstance(reference := value.get("$ref"), str) and reference.startswith(_SCHEMAS):
            yield reference.removeprefix(_SCHEMAS)
        for item in value.values():
            yield from _named(item)
    elif isinstance(value, list):
        for item in value:
            yield from _named(item)


def _plain(value: Any, schemas: Mapping[str, Any]) -> Any:
    """A schema for Python: a word that this version does not know yet is a text too, and limits are the service's business."""
    if isinstance(value, list):
        return [_plain(item, schemas) for item in value]
    if not isinstance(value, dict):
        return value
    if isinstance(reference := value.get("$ref"), str):
        name = reference.removeprefix(_SCHEMAS)
        if name in _MAPPINGS:
            return {"type": "object", "additionalProperties": _MAPPINGS[name]}
        return {"type": "string"} if "enum" in schemas[name] else value
    if isinstance(parts := value.get("allOf"), list) and len(parts) == 1 and parts[0] != _plain(parts[0], schemas):
        value = {key: entry for key, entry in value.items() if key != "allOf"} | _plain(parts[0], schemas)
    left_out = ("enum", "maximum", "minimum", "maxLength", "minLength", "pattern", "readOnly", "format")
    return {
        key: _plain(entry, schemas)
        for key, entry in value.items()
        if key not in left_out or (key == "format" and entry == "date-time") or isinstance(entry, dict)
    }
