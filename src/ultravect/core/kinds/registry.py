"""Finds the kinds of connections: ours and those of other packages, by their entry points; opens connections of them."""

from __future__ import annotations

import functools
import importlib
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from importlib.metadata import EntryPoint, entry_points
from typing import Any

from ultravect.core.contracts.kind import Kind
from ultravect.core.contracts.storage import Storage
from ultravect.core.contracts.target import Database
from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.oracle import OracleDialect
from ultravect.core.errors import UltravectError
from ultravect.core.model.base import Declared
from ultravect.core.model.problems import did_you_mean

GROUP = "ultravect.kinds"
_OURS = "ultravect.core.kinds."
_ORDER = (
    "postgresql",
    "mariadb",
    "sqlite",
    "duckdb",
    "sqlserver",
    "lake",
    "warehouse",
    "folder",
    "objectstore",
    "sftp",
    "http",
)


@functools.cache
def _found() -> tuple[Mapping[str, Kind], Mapping[str, str]]:
    """The kinds by name, and why others are not among them."""
    kinds: dict[str, Kind] = {}
    broken: dict[str, str] = {}

    def order(point: EntryPoint) -> tuple[bool, int, str]:
        ours = point.value.startswith(_OURS)
        return not ours, _ORDER.index(point.name) if ours and point.name in _ORDER else 0, point.name

    for point in sorted(entry_points(group=GROUP), key=order):
        if point.name in kinds:
            continue  # a package that is installed twice is listed twice; ours are first
        try:
            kind = point.load()
        except Exception as error:  # whatever the code of another package raises
            broken[point.name] = f"its package cannot be imported: {error}"
            continue
        if isinstance(kind, Kind) and kind.name == point.name:
            kinds[point.name] = kind
        else:
            broken[point.name] = f"{point.value} is no Kind of this name"
    return kinds, broken


def kinds() -> Mapping[str, Kind]:
    """All kinds by name, ours first."""
    return _found()[0]


def broken_kinds() -> Mapping[str, str]:
    """Names that packages have registered and that cannot be used, each with the reason."""
    return _found()[1]


def kind_named(name: str) -> Kind:
    """The kind of this name; UltravectError when there is none."""
    known = kinds()
    if name in known:
        return known[name]
    reason = broken_kinds().get(name)
    why = f", or rather {reason}" if reason else ""
    raise UltravectError(
        "kind-unknown",
        f"{name!r} is not a kind of connection{why}",
        hint=did_you_mean(name, known) or f"kinds are {', '.join(known)}",
        place="kind",
    )


def settings_of(kind: str) -> type[Declared]:
    """The model of a kind's settings."""
    return kind_named(kind).settings


def kind_schemas() -> dict[str, Any]:
    """JSON Schema of the settings of every kind."""
    return {name: kind.settings.model_json_schema() for name, kind in kinds().items()}


def open_kind(kind: Kind, connection: str, settings: Any, roots: Sequence[str]) -> Database | Storage:
    """A connection of a kind, opened; UltravectError when a package that the kind needs is not installed."""
    try:
        opens = _imported(kind.opens)
    except ImportError as error:
        missing = (error.name or "").partition(".")[0]
        package = kind.needs.get(missing, missing)
        raise UltravectError(
            "driver-missing",
            f"connection {connection}: the kind {kind.name} needs the Python package {package}, which cannot be imported here: "
            f"{error}",
            hint=f"install it where the service and its workers run: pip install '{package}'",
            connection=connection,
        ) from None
    opened: Database | Storage = opens(connection, settings, roots)
    return opened


def borrowed(
    kind: str,
) -> Mapping[str, Callable[[Mapping[str, Any], str, str, Mapping[str, Any]], Mapping[str, Any]]]:
    """The settings of a kind that name another connection, each with what takes settings from it: see ``Kind.borrows``."""
    found = kinds().get(kind)
    return {setting: _imported(path) for setting, path in found.borrows.items()} if found else {}


def preload(names: Collection[str]) -> None:
    """Imports what connections of these kinds need, as far as it is installed: processes that are forked later have it at once."""
    for name in names:
        if (kind := kinds().get(name)) is not None:
            # whatever the code of another package raises is said when it is opened
            with suppress(Exception):
                kind.settings.model_rebuild()
                _imported(kind.opens)


@functools.cache
def dialects() -> Mapping[str, Dialect]:
    """All dialects by name: those of the kinds, and those that types and drafts are written for without a connection."""
    made = {name: _imported(kind.dialect)() for name, kind in kinds().items() if kind.dialect}
    for kind in kinds().values():
        made |= {name: _imported(path)() for name, path in kind.more_dialects.items()}
    return {**made, "oracle": OracleDialect()}


def _imported(path: str) -> Any:
    module, _, name = path.partition(":")
    return getattr(importlib.import_module(module), name)
