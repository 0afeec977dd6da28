"""What is known of a leg while it is planned: handles of its source and its target, and all that goes into the plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import cast

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.change_log import ChangeLog
from ultravect.core.contracts.target import Target
from ultravect.core.contracts.write_plan import Insert, Merge, Replace, WritePlan
from ultravect.core.dialects.base import Change, NewTable, TableName
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import (
    VERSION,
    ColumnPlan,
    ConditionPlan,
    FilesPlan,
    InputPlan,
    LegPlan,
    RowsPlan,
    ScopePlan,
    StrategyPlan,
)
from ultravect.core.engine.plan.newer.mark_plan import MarkPlan
from ultravect.core.engine.plan.target.target_checks import TargetCheck
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Bound
from ultravect.core.layouts.base import FileReader, Reader
from ultravect.core.layouts.parts import Part
from ultravect.core.model.finding import Finding, Replacement, Severity
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.layout import AnyLayout


@dataclass
class Planning:
    """A plan that is being made; ``leg_plan`` is what comes of it, once there are no errors.

    ``path`` names the files that are read, ``declared`` the layout that they were opened with.
    """

    job: Job
    facts: RunFacts = field(default_factory=RunFacts)
    path: str = ""
    declared: AnyLayout | None = None
    reader: Reader | None = None
    target: Target | None = None
    table: TableName | None = None
    live: LiveTable | None = None
    columns: list[ColumnPlan] = field(default_factory=list)
    inputs: list[InputPlan] = field(default_factory=list)
    sampled: bool = False
    """Whether types of what expressions need are those of the first rows."""
    condition: Bound | None = None
    """What is left to filter by, after what the source filters itself."""
    condition_plan: ConditionPlan | None = None
    scope: ScopePlan | None = None
    strategy: StrategyPlan | None = None
    bound: dict[str, Bound] = field(default_factory=dict)
    """The computed columns by name."""
    checks: Sequence[TargetCheck] = ()
    """Those of the target that are decided before rows are sent."""
    create: NewTable | None = None
    changes: list[Change] = field(default_factory=list)
    is_new: bool = False
    """Whether the table is made by this plan: because it is missing, or in the place of the one that is there."""
    receipts: bool = True
    may_call: bool = False
    """Whether the job's statements may call procedures."""

    mark: MarkPlan | None = None
    """What the load notes of what it has copied."""

    mark_parameters: Sequence[str] = ()
    """The parameters that decide what is copied."""

    nothing: str = ""
    """Why there is nothing to copy; "" where there is something."""

    summary_of_mark: str = ""
    count_new: Callable[[], int | None] = lambda: None
    """Asks the source how many rows are new; None where it does not say."""

    log: ChangeLog | None = None
    """What says what changes in the source, of a job that follows it."""

    left_out: Sequence[str] = ()
    """Columns of the source's table that its log does not have."""

    action: Insert | Replace | Merge = field(default_factory=Insert)
    """What becomes of the rows that are there."""

    write: WritePlan | None = None
    """How rows are written, once there are no errors."""

    slices: Sequence[Part] = ()
    """See ``LegPlan``."""

    chosen: Sequence[str] | None = None
    """Of the files that ``path`` names, those that are read; None for all."""

    findings: list[Finding] = field(default_factory=list)

    @property
    def errors(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == "error"]

    @property
    def rebuilds(self) -> bool:
        return self.is_new and self.live is not None

    @property
    def ddl(self) -> tuple[str, ...]:
        """The statements that create the target, or change it, when that is needed."""
        if self.target is None or self.table is None:
            return ()
        dialect = self.target.dialect
        made = dialect.create_table(self.table, self.create) if self.create else ()
        return (*made, *dialect.alter_table(self.table, self.changes))

    def leg_plan(self) -> LegPlan:
        """The plan as data; there must be no errors."""
        assert self.write is not None and self.strategy is not None
        return LegPlan(
            VERSION,
            self.job.model_dump(mode="json", by_alias=True, exclude_unset=True),
            self.facts,
            self._source(),
            self.live,
            tuple(self.columns),
            tuple(self.inputs),
            self.sampled,
            self.scope,
            self.condition_plan,
            tuple(check.name for check in self.checks),
            self.write,
            self.strategy,
            self.ddl,
            tuple(replace(finding, replacement=None) for finding in self.findings),
            self.mark,
            tuple(self.slices),
        )

    def _source(self) -> FilesPlan | RowsPlan:
        reader = self.reader
        if isinstance(reader, TableRows):
            return RowsPlan(reader.origin, reader.label, tuple(reader.columns), reader.condition, reader.live)
        assert reader is not None
        found = cast(FileReader, reader)
        declared = self.declared.model_dump(mode="json", exclude_unset=True) if self.declared else None
        layout = found.layout.model_dump(mode="json")
        return FilesPlan(
            self.path,
            reader.label,
            declared,
            layout,
            tuple(reader.names),
            None if self.chosen is None else tuple(self.chosen),
        )

    def add(
        self,
        severity: Severity,
        code: str,
        message: str,
        place: str = "",
        fix: str = "",
        replacement: Replacement | None = None,
    ) -> None:
        self.findings.append(Finding(severity, code, message, place, fix, replacement))

    def refuse(self, error: UltravectError, place: str, replacement: Replacement | None = None) -> None:
        self.add("error", error.code, error.detail, str(error.where.get("place", place)), error.hint, replacement)
