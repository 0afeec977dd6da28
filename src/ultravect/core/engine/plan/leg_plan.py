"""What a leg will do, as it was planned."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.target import Target
from ultravect.core.dialects.base import Change, NewTable, TableName
from ultravect.core.engine.plan.target_checks import TargetCheck
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Bound
from ultravect.core.layouts.base import Reader
from ultravect.core.model.finding import Finding, Put, Severity
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.inference import ColumnType
from ultravect.core.types.text_formats import TextFormats


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
    expression: Bound | None = None
    fit: str = ""
    origin: CanonicalType | None = None
    """The type that its values come in, or are found to be of."""


@dataclass
class LegPlan:
    """What a leg will do; it may be run only when ``errors`` is empty."""

    reader: Reader | None = None
    target: Target | None = None
    table: TableName | None = None
    live: LiveTable | None = None
    columns: list[ColumnPlan] = field(default_factory=list)
    inputs: list[InputPlan] = field(default_factory=list)
    sampled: bool = False
    """Whether types of what expressions need are those of the first rows."""
    condition: Bound | None = None
    """What is left to filter by, behind what the source filters itself."""
    bound: dict[str, Bound] = field(default_factory=dict)
    """The computed columns by name."""
    checks: Sequence[TargetCheck] = ()
    """Those of the target that are decided before rows are sent."""
    create: NewTable | None = None
    changes: list[Change] = field(default_factory=list)
    is_new: bool = False
    """Whether the table is made by this plan: because it is missing, or in the place of the one that is there."""
    receipts: bool = True
    findings: list[Finding] = field(default_factory=list)

    @property
    def errors(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == "error"]

    @property
    def rebuilds(self) -> bool:
        return self.is_new and self.live is not None

    @property
    def ddl(self) -> str | None:
        """The statements that create the target, or change it, when that is needed."""
        if self.target is None or self.table is None:
            return None
        dialect = self.target.dialect
        made = dialect.create_table(self.table, self.create) if self.create else ()
        statements = [*made, *dialect.alter_table(self.table, self.changes)]
        return ";\n".join(statements) or None

    def add(
        self, severity: Severity, code: str, message: str, place: str = "", fix: str = "", put: Put | None = None
    ) -> None:
        self.findings.append(Finding(severity, code, message, place, fix, put))

    def refuse(self, error: UltravectError, place: str, put: Put | None = None) -> None:
        self.add("error", error.code, error.detail, str(error.where.get("place", place)), error.hint, put)
