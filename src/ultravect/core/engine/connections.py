"""From the name of a connection to what can be done with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from ultravect.core.databases import DATABASES
from ultravect.core.databases.base import Database
from ultravect.core.engine.secrets import SecretPlaces, opened_settings
from ultravect.core.errors import UltravectError
from ultravect.core.probe import ProbeResult, run_steps
from ultravect.core.storage import STORAGES
from ultravect.core.storage.base import Storage


@dataclass(frozen=True)
class ConnectionSpec:
    """A connection with its secrets opened: for the memory of a process only.

    ``roots`` confine folders and database files; ``secret_variables`` and ``secret_folder`` say what references to
    secrets may point to.
    """

    name: str
    kind: str
    settings: dict[str, Any] = field(repr=False)
    roots: Sequence[str] = ()
    secret_variables: str = SecretPlaces.variables
    secret_folder: str = SecretPlaces.folder
    variables: dict[str, str] | None = field(default=None, repr=False)
    """Environment variables that references and keys may need, read by the service; None: those of this process."""

    @property
    def places(self) -> SecretPlaces:
        return SecretPlaces(self.secret_variables, self.secret_folder, self.variables)

    def opened(self) -> Any:
        """The settings of the kind, with references to secrets followed."""
        return opened_settings(self.name, self.kind, self.settings, self.places)


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
    return STORAGES[spec.kind](spec.name, spec.opened(), spec.roots)


def database_of(spec: ConnectionSpec) -> Database:
    """The database behind a connection; UltravectError when it holds files."""
    if not holds_tables(spec.kind):
        raise UltravectError(
            "not-a-database",
            f"connection {spec.name} is of kind {spec.kind}, which holds files, not tables",
            hint=f"kinds that hold tables: {', '.join(DATABASES)}",
            connection=spec.name,
        )
    return DATABASES[spec.kind](spec.name, spec.opened(), spec.roots)


def probe(spec: ConnectionSpec, *, write: bool = False) -> ProbeResult:
    """Goes as far as a copy would, step by step; ``write``: also creates something in the staging place, and drops it."""
    try:
        place = database_of(spec) if holds_tables(spec.kind) else storage_of(spec)
    except UltravectError as error:
        return ProbeResult.of_error("settings", error)
    return run_steps([*place.steps(), *(place.write_steps() if write else ())])
