"""From the name of a connection to what can be done with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, cast

from ultravect.core.contracts.probe import ProbeResult, run_steps
from ultravect.core.contracts.storage import Storage
from ultravect.core.contracts.target import Database
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kind_named, kinds, open_kind, settings_of


@dataclass(frozen=True)
class ConnectionSpec:
    """A connection with its secrets opened: for the memory of a process only.

    ``roots`` confine folders and database files. References to secrets were followed before: a process is given what they lead to,
    and not where to look.
    """

    name: str
    kind: str
    settings: dict[str, Any] = field(repr=False)
    roots: Sequence[str] = ()
    keys: dict[str, str] = field(default_factory=dict, repr=False)
    """The keys that the expressions of the job name: see ``keys_named``."""

    site: str = ""
    """Where it is, by which workers it is reached."""

    def opened(self) -> Any:
        """The settings of the kind."""
        return settings_of(self.kind).model_validate(self.settings)


def holds_tables(kind: str) -> bool:
    """Whether connections of ``kind`` hold tables, and not files."""
    return kind_named(kind).holds == "tables"


def storage_of(spec: ConnectionSpec) -> Storage:
    """The storage of a connection; UltravectError when it holds tables, not files."""
    if holds_tables(spec.kind):
        raise _other_kind(spec, "not-a-storage", "tables", "files")
    return cast(Storage, open_kind(kind_named(spec.kind), spec.name, spec.opened(), spec.roots))


def database_of(spec: ConnectionSpec) -> Database:
    """The database of a connection; UltravectError when it holds files."""
    if not holds_tables(spec.kind):
        raise _other_kind(spec, "not-a-database", "files", "tables")
    return cast(Database, open_kind(kind_named(spec.kind), spec.name, spec.opened(), spec.roots))


def _other_kind(spec: ConnectionSpec, code: str, held: str, wanted: str) -> UltravectError:
    return UltravectError(
        code,
        f"connection {spec.name} is of kind {spec.kind}, which holds {held}, not {wanted}",
        hint=f"kinds that hold {wanted}: {', '.join(name for name, kind in kinds().items() if kind.holds == wanted)}",
        connection=spec.name,
    )


def probe(spec: ConnectionSpec, *, write: bool = False) -> ProbeResult:
    """Goes as far as a copy would, step by step; ``write``: also creates something in the staging place, and drops it."""
    try:
        place = database_of(spec) if holds_tables(spec.kind) else storage_of(spec)
    except UltravectError as error:
        return ProbeResult.of_error("settings", error)
    return run_steps([*place.steps(), *(place.write_steps() if write else ())])
