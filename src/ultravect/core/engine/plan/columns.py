"""How a plan's columns come about, whatever their target: their formats, their fit, and what is to be said of both."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.proposals import value_findings
from ultravect.core.engine.plan.source.scan import Scan, scan_columns
from ultravect.core.engine.plan.suggest import column_as
from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.expressions.select_list import Selected
from ultravect.core.model.finding import Severity
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.canonical import CanonicalType, Fit
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.types.pairs import pair_fit
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.words import counted

DATE_TYPES = ("date", "timestamp", "timestamptz")


@dataclass(frozen=True)
class Scanning:
    """How much of a file is looked at for its types (``limit`` in bytes, None: all of it), and who is notified meanwhile."""

    limit: int | None
    progress: Callable[[int, int], None]

    def scan(self, job: Job, plan: Planning, selected: Sequence[Selected]) -> Scan:
        """The types of the columns that neither the job nor the source gives one; ``Scan`` of none is empty."""
        assert plan.reader is not None
        # dates are looked at even where their type is given: how they are written has to be found
        wanted = [
            item.position
            for item in selected
            if item.position is not None
            and plan.reader.given[item.position] is None
            and (item.type is None or item.type.name in DATE_TYPES)
        ]
        if not wanted:
            return Scan({})
        scan = scan_columns(plan.reader, wanted, limit=self.limit, progress=self.progress)
        note_scan(plan, scan)
        untyped = [item.position for item in selected if item.position in scan.columns and item.type is None]
        plan.findings += value_findings(
            plan.reader, [scan.columns[item] for item in untyped if item is not None], job
        )
        return scan


def note_scan(plan: Planning, scan: Scan) -> None:
    if not scan.complete:
        what = (
            f"the types are those of the first {scan.rows:,} rows; a run reads them all before it creates the table"
        )
        plan.add("note", "types-from-sample", what, "into.table")
    if scan.rows == 0:
        plan.add("warning", "no-rows", "the file has a header and no rows: nothing says the types", "from.files")
    for bad in scan.bad[:1]:
        plan.add(
            "warning",
            "rows-not-whole",
            f"{counted(scan.bad_rows, 'row is', 'rows are')} not whole, first row {bad.row:,}: {bad.reason}; each will be a reject",
            "from.files",
            "correct them in the source, or check the layout (layout.ragged, layout.escape, layout.quote)",
        )


def add_column(
    plan: Planning,
    entry: Selected,
    target: LiveColumn,
    inferred: ColumnType | None,
    given: Mapping[int, TextFormats] | None = None,
) -> None:
    """Plans a column, its dates read as they were found to be written. ``given``: see ``formats_of_given``."""
    assert plan.reader is not None
    kind = target.type or CanonicalType("text")
    formats = (given or {}).get(-1 if entry.position is None else entry.position, plan.reader.formats)
    if inferred and inferred.date_pattern:
        formats = replace(formats, date_pattern=inferred.date_pattern)
    if inferred and inferred.ambiguous:
        needed = kind.name in DATE_TYPES
        plan.add(
            "error" if needed else "warning",
            "date-order-unsure",
            f"column {entry.name}: {inferred.evidence}{'' if needed else '; it stays text'}",
            entry.place,
            "write from.layout.values.dates: DD/MM/YYYY or MM/DD/YYYY",
        )
    if plan.is_new and inferred and inferred.exceptions and entry.type is None:
        plan.add(
            "warning",
            "mixed-column",
            f"column {entry.name} becomes text; {inferred.evidence}",
            entry.place,
            f"correct these rows; or give the column its type (`{quoted(entry.name)} …`), and they are rejects",
        )
    source = entry.name if entry.position is None else plan.reader.names[entry.position]
    evidence = inferred if plan.is_new else None
    plan.columns.append(
        ColumnPlan(
            -1 if entry.position is None else entry.position,
            source,
            target.name,
            kind,
            target.native,
            formats,
            target.nullable,
            inferred=evidence,
            expression=entry.value if entry.position is None else None,
            fit=_fit_text(source_type(plan, entry), kind),
            origin=source_type(plan, entry) or (inferred.type if inferred else None),
        )
    )


def note_pair(job: Job, plan: Planning, entry: Selected, target: CanonicalType | None) -> None:
    """Says what becomes of a column's values on their way into another type."""
    assert plan.reader is not None
    source = source_type(plan, entry)
    if target is None or source is None:
        return  # what text becomes is found from its values
    pair = pair_fit(source, target)
    if pair is None:
        what = f"column {entry.name}: {source} is not converted to {target} here"
        fix, replacement = f"give {entry.name} a type that it converts to, such as text", None
        if (source.name, target.name) == ("timestamp", "timestamptz"):
            zoned = f"{quoted(entry.name)} at time zone 'UTC' as {quoted(entry.name)}"
            fix, replacement = f"say which zone it is in: `{zoned}`", column_as(job, entry, zoned)
        plan.add("error", "type-not-convertible", what, entry.place, fix, replacement)
    elif pair[0] in (Fit.NARROWER, Fit.DIFFERENT):
        severity: Severity = "warning" if pair[0] is Fit.DIFFERENT else "note"
        plan.add(
            severity, f"type-{pair[0]}", f"column {entry.name}: {source} becomes {target}: {pair[1]}", entry.place
        )


def source_type(plan: Planning, entry: Selected) -> CanonicalType | None:
    """The type of a column's values before they are converted; None where text will say."""
    assert plan.reader is not None
    return plan.bound[entry.name].type if entry.position is None else plan.reader.given[entry.position]


def _fit_text(source: CanonicalType | None, target: CanonicalType) -> str:
    """``from text: exact``, where the source has types."""
    pair = pair_fit(source, target) if source else None
    return f"from {source}: {pair[0]}" + (f", {pair[1]}" if pair[1] else "") if pair else ""
