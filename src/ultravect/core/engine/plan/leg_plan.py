"""What a leg will do, as it was planned: data alone, so that any process can execute it, and would do the same."""

from __future__ import annotations

import datetime as dt
import functools
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import TypeAdapter

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable
from ultravect.core.contracts.write_plan import WritePlan
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.newer.mark_plan import MarkPlan
from ultravect.core.expressions.encode import Expression
from ultravect.core.layouts.parts import Part
from ultravect.core.model.finding import Finding
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.types.text_formats import TextFormats

VERSION = 2


@dataclass(frozen=True)
class InputPlan:
    """A column of the source that expressions need: where it is read, and in which type they take it.

    ``slot`` is its position as expressions know it; ``sampled``: its type is that of the first rows.
    """

    position: int
    slot: int
    source: str
    type: CanonicalType
    formats: TextFormats
    sampled: bool = False


@dataclass(frozen=True)
class ColumnPlan:
    """One column from source to table. ``type`` is what its values are converted to.

    ``position`` is that of the source's column, -1 where ``expression`` computes it.
    """

    position: int
    source: str
    name: str
    type: CanonicalType
    native: str
    formats: TextFormats
    nullable: bool = True
    key: bool = False
    inferred: ColumnType | None = None
    expression: Expression | None = None
    fit: str = ""
    origin: CanonicalType | None = None
    """The type that its values come in, or are found to be of."""


@dataclass(frozen=True)
class FilesPlan:
    """One file, or all that match ``path``: read by the layout that is ``declared``, which was completed to ``layout``."""

    path: str
    label: str
    declared: Mapping[str, Any] | None
    layout: Mapping[str, Any]
    names: tuple[str, ...]
    chosen: tuple[str, ...] | None = None
    """Of the files that match, those that are read; None for all."""


@dataclass(frozen=True)
class RowsPlan:
    """A table, view or query: ``columns`` of ``origin``, the FROM clause; ``condition`` is what the database filters by."""

    origin: str
    label: str
    columns: tuple[LiveColumn, ...]
    condition: str
    live: LiveTable | None


@dataclass(frozen=True)
class ConditionPlan:
    """What is left to filter by after the source: the parts with these numbers of a condition whose parts all must hold."""

    node: Expression
    parts: tuple[int, ...]


@dataclass(frozen=True)
class ScopePlan:
    """What expressions name: the columns of the source with their types, and the moment that the run calls now."""

    names: tuple[str, ...]
    types: tuple[CanonicalType, ...]
    now: dt.datetime


@dataclass(frozen=True)
class StrategyPlan:
    """How the rows are written. ``why_not``: the quicker ways, each with what stands in its way."""

    name: str
    summary: str
    why_not: Mapping[str, str]


@dataclass(frozen=True)
class LegPlan:
    """What a leg will do; it may be executed only when ``errors`` is empty.

    ``job`` is the job as data, with the values of its parameters; ``ddl`` creates the target or changes it.
    Secrets are not in it: they are opened with the connections. JSON both ways: ``as_json`` and ``from_json``.
    """

    version: int
    job: Mapping[str, Any]
    facts: RunFacts
    source: FilesPlan | RowsPlan
    live: LiveTable | None
    columns: tuple[ColumnPlan, ...]
    inputs: tuple[InputPlan, ...]
    sampled: bool
    scope: ScopePlan | None
    condition: ConditionPlan | None
    checked: tuple[str, ...]
    """Names of the target's checks that are decided before rows are sent."""
    write: WritePlan
    strategy: StrategyPlan
    ddl: tuple[str, ...]
    findings: tuple[Finding, ...]
    mark: MarkPlan | None = None
    slices: tuple[Part, ...] = ()
    """The parts in which the rows are copied, by as many workers as are free; empty where one copies them all."""

    @property
    def table(self) -> TableName:
        """What rows go into."""
        return self.write.table

    @property
    def errors(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == "error"]

    def as_json(self) -> dict[str, Any]:
        data: dict[str, Any] = _adapter().dump_python(self, mode="json", by_alias=True)
        for live in (data["live"], data["source"].get("live")):
            if live:  # sets have no order, and two dumps of one plan should be equal
                live["granted"].sort()
                live["indexed"].sort()
                live["unique"] = sorted(sorted(names) for names in live["unique"])
        return data

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> LegPlan:
        """What ``as_json`` gave, in this process or another, of this version or the one before."""
        return _adapter().validate_python(_of_version_1(data) if data["version"] == 1 else data)


def _of_version_1(data: Mapping[str, Any]) -> dict[str, Any]:
    """A plan that an earlier version of the service has kept with a run: what it says of writing, as it is said now.

    Such plans are read, and not executed any more.
    """
    into = data["job"]["into"]
    action: dict[str, Any] = {"mode": into.get("mode", "append")}
    if action["mode"] == "overwrite":
        action["where"] = data["replaces"]
    write = {
        "table": data["table"],
        "columns": [{"name": column["name"], "type": column["type"]} for column in data["columns"]],
        "action": action,
        "create": data["create"],
        "rebuild": bool(data["is_new"] and data["live"]),
        "changes": data["changes"],
        "receipts": data["receipts"],
        "marks": data["mark"] is not None,
    }
    moved = ("table", "create", "changes", "is_new", "receipts", "replaces", "within")
    return {**{key: value for key, value in data.items() if key not in moved}, "version": VERSION, "write": write}


def prepare() -> None:
    """Builds what writes and reads plans, which takes a tenth of a second: processes that are forked later have it at once."""
    _adapter()


@functools.cache
def _adapter() -> TypeAdapter[LegPlan]:
    return TypeAdapter(LegPlan)
