"""Turns a job into a plan, from the live source and the live target, with all that there is to say about it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from ultravect.core.databases.base import Database, LiveColumn, LiveTable
from ultravect.core.dialects.base import NewColumn, TableName
from ultravect.core.engine.connections import ConnectionSpec, database_of
from ultravect.core.engine.fit import misfits
from ultravect.core.engine.leg_plan import ColumnPlan, LegPlan
from ultravect.core.engine.names import loosely_matched, quoted
from ultravect.core.engine.plan_expressions import bind_expressions, narrow
from ultravect.core.engine.scan import Scan, scan_columns
from ultravect.core.engine.secrets import SecretPlaces
from ultravect.core.engine.sources import open_source
from ultravect.core.engine.tables import open_rows
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.select_list import Selected, resolve
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Severity
from ultravect.core.model.job import Job
from ultravect.core.model.layout import AnyLayout
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.canonical import CanonicalType, Fit
from ultravect.core.types.inference import ColumnType
from ultravect.core.types.pairs import pair_fit
from ultravect.core.words import counted

_DATE_TYPES = ("date", "timestamp", "timestamptz")
_DATE_SAMPLE = 100 << 10


def make_plan(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None = None,
    *,
    scan_limit: int | None = None,
    progress: Callable[[int, int], None] = lambda rows, size: None,
) -> LegPlan:
    """Looks at source and target and plans the leg. What is wrong is in the findings, not raised.

    ``saved`` is the layout that the job names, when it names one.

    The types of a new table come from all of the file, or from its first ``scan_limit`` bytes.
    """
    plan = LegPlan()
    selected: list[Selected] = []
    try:
        if job.source.files is None:
            plan.reader = open_rows(source, job.source)
        else:
            plan.reader = open_source(source, job.source.files, _layout(job, saved))
        plan.findings += plan.reader.findings
        if saved:
            plan.findings += misfits(saved.layout, saved.expects, plan.reader.names, {})
    except UltravectError as error:
        plan.refuse(error, job.source.place)
    if plan.reader:
        try:
            selected = resolve(job.columns, plan.reader.names)
        except UltravectError as error:
            plan.refuse(error, "columns")
    try:
        plan.database = database_of(target)
        plan.table = plan.database.dialect.parse_table(job.into.table)
        plan.live = plan.database.table(plan.table)
    except ValueError as error:
        plan.add("error", "table-name-invalid", str(error), "into.table")
    except UltravectError as error:
        plan.refuse(error, "into.connection")
    if plan.reader and not plan.errors:
        try:
            places = SecretPlaces(source.secret_variables, source.secret_folder)
            bind_expressions(job, plan, selected, places, scan_limit, progress)
        except UltravectError as error:
            plan.refuse(error, "columns")
    if plan.table is None or plan.database is None or plan.errors:
        return plan
    try:
        if plan.live is None:
            _plan_new(job, plan, selected, scan_limit, progress)
        else:
            _plan_existing(job, plan, plan.live, selected)
    except UltravectError as error:
        plan.refuse(error, job.source.place)
    narrow(plan)
    return plan


def _layout(job: Job, saved: LayoutFile | None) -> AnyLayout | None:
    """What the files are read with: the saved layout that the job names, or the job's own."""
    if saved:
        return saved.reads
    own = job.source.layout
    assert not isinstance(own, str), "whoever plans a job looks up the layout that it names"
    return own


def _plan_new(
    job: Job,
    plan: LegPlan,
    selected: Sequence[Selected],
    scan_limit: int | None,
    progress: Callable[[int, int], None],
) -> None:
    assert plan.reader is not None and plan.database is not None and plan.table is not None
    dialect = plan.database.dialect
    if job.into.if_missing == "fail":
        near = nearest_table(plan.database, plan.table)
        plan.add(
            "error",
            "table-missing",
            f"the table {plan.table} does not exist",
            "into.table",
            f"{near and near + ' or '}write into.if_missing: create to have it created",
        )
        return
    obstacle = plan.database.may_create(plan.table)
    if obstacle:
        plan.add(
            "error",
            "table-not-creatable",
            f"the table {plan.table} cannot be created: {obstacle}",
            "into.table",
        )
        return
    for one in selected:
        if len(one.name.encode()) > dialect.max_identifier_bytes:
            plan.add(
                "error",
                "name-too-long",
                f"the column name {one.name!r} is longer than {dialect.max_identifier_bytes} bytes",
                one.place,
                "give it a shorter name with `as`",
            )
        _note_pair(plan, one, one.type)
    if plan.errors:
        return
    # dates are looked at even where their type is given: how they are written has to be found
    given = plan.reader.given
    scanned = [
        one.position
        for one in selected
        if one.position is not None
        and given[one.position] is None
        and (one.type is None or one.type.name in _DATE_TYPES)
    ]
    scan = Scan({})
    if scanned:
        scan = scan_columns(plan.reader, scanned, limit=scan_limit, progress=progress)
        _note_scan(plan, scan)
    for one in selected:
        inferred = scan.columns.get(one.position) if one.position is not None else None
        kind = one.type or _source_type(plan, one) or (inferred.type if inferred else CanonicalType("text"))
        translation = dialect.from_canonical(kind)
        if translation.fit in (Fit.NARROWER, Fit.DIFFERENT):
            what = f"column {one.name}: {kind} becomes {translation.native}: {translation.change}"
            plan.add("warning", f"type-{translation.fit}", what, one.place)
        target = LiveColumn(one.name, translation.native, "", kind, True, False)
        _add_column(plan, one, target, inferred)
    plan.create = [NewColumn(column.name, column.type) for column in plan.columns]


def nearest_table(database: Database, table: TableName) -> str:
    """``did you mean 'booking'?``, when there is a table with a name like that."""
    names = [info.name for info in database.tables("", "", 2000)]
    return did_you_mean(str(table), names) or did_you_mean(table.name, [name.split(".", 1)[-1] for name in names])


def _note_scan(plan: LegPlan, scan: Scan) -> None:
    if not scan.complete:
        what = (
            f"the types are those of the first {scan.rows:,} rows; a run reads them all before it creates the table"
        )
        plan.add("note", "types-from-sample", what, "into.table")
    if scan.rows == 0:
        plan.add("warning", "no-rows", "the file has a header and no rows: nothing tells the types", "from.files")
    for bad in scan.bad[:1]:
        plan.add(
            "warning",
            "rows-not-whole",
            f"{counted(scan.bad_rows, 'row is', 'rows are')} not whole, first row {bad.row:,}: {bad.reason}; each will be a reject",
            "from.files",
            "mend them, check the layout, or allow them with into.rejects",
        )


def _plan_existing(job: Job, plan: LegPlan, live: LiveTable, selected: Sequence[Selected]) -> None:
    assert plan.reader is not None
    if live.kind not in ("table", "foreign table"):
        plan.add(
            "error",
            "target-is-view",
            f"{live.name} is a {live.kind}, which takes no rows",
            "into.table",
            "name a table",
        )
        return
    if not live.may_insert:
        plan.add(
            "error",
            "privilege-missing",
            f"the connection's user may not insert into {live.name}",
            "into.table",
            f"have it granted: GRANT INSERT ON {live.name}",
        )
    matched: list[tuple[Selected, LiveColumn]] = []
    own = [one.name for one in selected if not one.renamed]
    taken = {one.name for one in selected if one.renamed}
    alike = loosely_matched(own, [column.name for column in live.columns if column.name not in taken])
    for one in selected:
        column = live.column(one.name if one.renamed else alike.get(one.name, one.name))
        if column is not None and column.name != one.name:
            what = f"column {one.name} goes into {column.name}: the names differ in case or marks only"
            plan.add("note", "column-matched", what, one.place)
        if column is None:
            _no_such_column(job, plan, live, one)
        elif column.generated:
            plan.add(
                "error",
                "column-generated",
                f"column {one.name} of {live.name} is generated by the database",
                one.place,
                f'leave it out: "* except ({one.name})"',
            )
        elif column.type is None:
            plan.add(
                "warning",
                "type-by-database",
                f"column {one.name}: the database parses its text as {column.native}",
                one.place,
            )
            matched.append((one, replace(column, type=None)))
        else:
            _note_pair(plan, one, column.type)
            matched.append((one, column))
    _unfilled(plan, live, {column.name for _, column in matched})
    if not plan.errors and not matched:
        plan.add("error", "no-columns", f"no column of the source is a column of {live.name}", "columns")
    if plan.errors:
        return
    dated = [
        one.position
        for one, column in matched
        if one.position is not None
        and plan.reader.given[one.position] is None
        and column.type
        and column.type.name in _DATE_TYPES
    ]
    patterns: dict[int, ColumnType] = {}
    if dated and plan.reader.date_pattern is None:
        patterns = scan_columns(plan.reader, dated, limit=_DATE_SAMPLE).columns
    for one, column in matched:
        if one.type is not None and one.type != column.type:
            what = f"the job says {one.type}, the table has {column.native}, which counts"
            plan.add("note", "type-of-table", f"column {one.name}: {what}", one.place)
        _add_column(plan, one, column, patterns.get(one.position) if one.position is not None else None)


def _add_column(plan: LegPlan, one: Selected, target: LiveColumn, inferred: ColumnType | None) -> None:
    """Plans a column, its dates read as they were found to be written."""
    assert plan.reader is not None
    kind = target.type or CanonicalType("text")
    formats = plan.reader.formats
    if inferred and inferred.date_pattern:
        formats = replace(formats, date_pattern=inferred.date_pattern)
    if inferred and inferred.ambiguous:
        needed = kind.name in _DATE_TYPES
        plan.add(
            "error" if needed else "warning",
            "date-order-unsure",
            f"column {one.name}: {inferred.evidence}{'' if needed else '; it stays text'}",
            one.place,
            "write from.layout.values.dates: DD/MM/YYYY or MM/DD/YYYY",
        )
    if plan.live is None and inferred and inferred.exceptions and one.type is None:
        plan.add(
            "warning",
            "mixed-column",
            f"column {one.name} becomes text; {inferred.evidence}",
            one.place,
            f"mend these rows; or give the column its type (`{quoted(one.name)} …`), and they are rejects",
        )
    source = one.name if one.position is None else plan.reader.names[one.position]
    evidence = inferred if plan.live is None else None
    plan.columns.append(
        ColumnPlan(
            -1 if one.position is None else one.position,
            source,
            target.name,
            kind,
            target.native,
            formats,
            target.nullable,
            evidence,
            plan.bound.get(one.name) if one.position is None else None,
            _told_fit(_source_type(plan, one), kind),
        )
    )


def _note_pair(plan: LegPlan, one: Selected, target: CanonicalType | None) -> None:
    """Says what becomes of a column's values on their way into another type."""
    assert plan.reader is not None
    source = _source_type(plan, one)
    if target is None or (source is None and target.name != "binary"):
        return  # what text becomes is found from its values
    pair = pair_fit(source or CanonicalType("text"), target)
    if pair is None:
        what = f"column {one.name}: {source or 'text'} is not converted to {target} here"
        fix = f"give {one.name} a type that it converts to, such as text"
        if source and (source.name, target.name) == ("timestamp", "timestamptz"):
            fix = f"say which zone it is in: `{quoted(one.name)} at time zone 'UTC' as {quoted(one.name)}`"
        plan.add("error", "type-not-convertible", what, one.place, fix)
    elif pair[0] in (Fit.NARROWER, Fit.DIFFERENT):
        severity: Severity = "warning" if pair[0] is Fit.DIFFERENT else "note"
        plan.add(severity, f"type-{pair[0]}", f"column {one.name}: {source} becomes {target}: {pair[1]}", one.place)


def _source_type(plan: LegPlan, one: Selected) -> CanonicalType | None:
    """The type of a column's values before they are converted; None where text will tell."""
    assert plan.reader is not None
    return plan.bound[one.name].type if one.position is None else plan.reader.given[one.position]


def _told_fit(source: CanonicalType | None, target: CanonicalType) -> str:
    """``from text: exact``, where the source has types."""
    pair = pair_fit(source, target) if source else None
    return f"from {source}: {pair[0]}" + (f", {pair[1]}" if pair[1] else "") if pair else ""


def _no_such_column(job: Job, plan: LegPlan, live: LiveTable, one: Selected) -> None:
    assert plan.reader is not None
    ignore = job.into.if_different == "ignore"
    near = did_you_mean(one.name, [column.name for column in live.columns if column.name not in plan.reader.names])
    fix = ""
    if near:
        nearest = near.split("'")[1]
        fix = f"the nearest is {nearest!r}: add `{quoted(one.name)} as {quoted(nearest)}` to columns"
    elif not ignore:
        fix = f'leave it out with "* except ({quoted(one.name)})", or write into.if_different: ignore'
    what = "; it is left out" if ignore else ""
    plan.add(
        "warning" if ignore else "error",
        "column-not-in-target",
        f"column {one.name!r} of the source is not a column of {live.name}{what}",
        one.place,
        fix,
    )


def _unfilled(plan: LegPlan, live: LiveTable, filled: set[str]) -> None:
    for column in live.columns:
        if column.name in filled or column.generated:
            continue
        if column.nullable or column.has_default:
            gets = "its default" if column.has_default else "NULL"
            plan.add(
                "note",
                "column-not-filled",
                f"column {column.name!r} of {live.name} gets {gets}: the source has no such column",
                "columns",
            )
        else:
            plan.add(
                "error",
                "column-required",
                f"column {column.name!r} of {live.name} takes no NULL and has no default, and the source has no such column",
                "columns",
                f"fill it: add `… as {quoted(column.name)}` to columns",
            )
