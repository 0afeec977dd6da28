"""From the name of a connection to what can be done with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from ultravect.core.databases import DATABASES
from ultravect.core.databases.base import Database
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile
from ultravect.core.model.connection import KINDS
from ultravect.core.storage import STORAGES
from ultravect.core.storage.base import Storage


@dataclass(frozen=True)
class ConnectionSpec:
    """A connection with its secrets opened: for the memory of a process only. ``roots`` confine folders."""

    name: str
    kind: str
    settings: dict[str, Any] = field(repr=False)
    roots: Sequence[str] = ()


def holds_tables(kind: str) -> bool:
    """Whether connections of ``kind`` hold tables, and not files."""
    return kind in DATABASES


def storage_of(spec: ConnectionSpec) -> Storage:
    """The storage behind a connection; UltravectError when it holds tables, not files."""
    if spec.kind not in STORAGES:
        raise UltravectError(
            "not-a-storage",
            f"connection {spec.name} is of kind {spec.kind}, which holds tables, not files",
            hint=f"kinds that hold files: {', '.join(STORAGES)}",
            connection=spec.name,
        )
    return STORAGES[spec.kind](spec.name, KINDS[spec.kind].model_validate(spec.settings), spec.roots)


def source_file(spec: ConnectionSpec, path: str) -> SourceFile:
    """A file of a connection; UltravectError when it cannot be opened."""
    storage = storage_of(spec)
    opened = storage.open(path)
    opened.stream.close()
    return SourceFile(path, opened.info.size, lambda: storage.open(path).stream)


def database_of(spec: ConnectionSpec) -> Database:
    """The database behind a connection; UltravectError when it holds files."""
    if not holds_tables(spec.kind):
        raise UltravectError(
            "not-a-database",
            f"connection {spec.name} is of kind {spec.kind}, which holds files, not tables",
            hint=f"kinds that hold tables: {', '.join(DATABASES)}",
            connection=spec.name,
        )
    return DATABASES[spec.kind](spec.name, KINDS[spec.kind].model_validate(spec.settings))


def probe(spec: ConnectionSpec) -> list[str]:
    """What a connection reaches, a line a step."""
    return (database_of(spec) if holds_tables(spec.kind) else storage_of(spec)).probe()
