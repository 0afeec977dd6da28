"""Tables and views that the patterns of ``from.tables`` match."""

from __future__ import annotations

from collections.abc import Sequence

from ultravect.core.contracts.catalogue import TableInfo
from ultravect.core.contracts.target import Database
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.objects.names import escaped
from ultravect.core.engine.plan.legs.leg_job import FoundObject
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kind_named
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.patterns import has_pattern, name_matcher
from ultravect.core.words import counted

MAX_TABLES = 20_000
_OWN = "ultravect_"
_NAMED = 5


def found_tables(job: Job, source: ConnectionSpec, findings: list[Finding]) -> list[FoundObject]:
    """What is there now, sorted by name; UltravectError where the source cannot be asked."""
    database = database_of(source)
    there = [info for info in database.tables("", "", MAX_TABLES + 1) if not info.table.name.startswith(_OWN)]
    if len(there) > MAX_TABLES:
        raise UltravectError(
            "too-many-tables",
            f"connection {source.name} has more than {MAX_TABLES:,} tables",
            hint="use a connection whose user sees fewer of them",
            place="from.tables",
        )
    usual = kind_named(source.kind).usual_schema
    found: dict[TableName, TableInfo] = {}
    for number, pattern in enumerate(job.source.tables or ()):
        matched = _matched(pattern, there, database, usual)
        if not matched and not has_pattern(pattern):
            findings.append(_missing(source, pattern, number, there))
        found |= {info.table: info for info in matched}
        _note_views(pattern, number, there, usual, findings)
    for number, pattern in enumerate(job.source.left_out):
        gone = _matched(pattern, list(found.values()), database, usual, views=True)
        if not gone:
            what = f"{pattern!r} leaves nothing out: it matches none of the tables that are copied"
            findings.append(Finding("warning", "except-without-effect", what, f"from.except.{number}"))
        for info in gone:
            found.pop(info.table, None)
    return [table_object(database.dialect, table, usual) for table in sorted(found, key=str)]


def is_named(job: Job, table: TableName, database: Database, usual: str) -> bool:
    """Whether a table is one that the job's patterns name."""
    info = [TableInfo(str(table), "table", None, "", table)]
    return any(_matched(pattern, info, database, usual) for pattern in job.source.tables or ()) and not any(
        _matched(pattern, info, database, usual, views=True) for pattern in job.source.left_out
    )


def _parts(pattern: str, dialect: Dialect, usual: str) -> tuple[str, str] | None:
    """The patterns of schema and table; None where an exact name is quoted, which is no pattern."""
    if '"' in pattern or "`" in pattern:
        return None
    schema, dot, name = pattern.partition(".")
    return (schema, name) if dot else (usual, pattern)


def _matched(
    pattern: str, there: Sequence[TableInfo], database: Database, usual: str, *, views: bool = False
) -> list[TableInfo]:
    """What a pattern matches: of views only those that it names, unless ``views``."""
    dialect = database.dialect
    parts = _parts(pattern, dialect, usual)
    if parts is None:
        try:
            wanted = dialect.parse_table(pattern)
        except ValueError as error:
            raise UltravectError("table-name-invalid", str(error), place="from.tables") from None
        return [info for info in there if _same(info.table, wanted, usual)]
    fits_schema, fits_name = name_matcher(parts[0]), name_matcher(parts[1])
    fits = [info for info in there if fits_schema(info.table.schema or usual) and fits_name(info.table.name)]
    if not has_pattern(pattern):
        return fits or [info for info in there if _same(info.table, TableName(*parts), usual, fold=True)]
    return [info for info in fits if views or not _is_derived(info)]


def _same(table: TableName, wanted: TableName, usual: str, *, fold: bool = False) -> bool:
    def key(name: TableName) -> tuple[str, str]:
        both = (name.schema or usual, name.name)
        return (both[0].casefold(), both[1].casefold()) if fold else both

    return key(table) == key(wanted)


def _missing(source: ConnectionSpec, pattern: str, number: int, there: Sequence[TableInfo]) -> Finding:
    names = [info.name for info in there]
    near = did_you_mean(pattern, names) or did_you_mean(pattern, [info.table.name for info in there])
    what = f"connection {source.name} has no table or view {pattern}"
    fix = near or f"see what there is with `ultravect look {source.name}`"
    return Finding("error", "table-missing", what, f"from.tables.{number}", fix)


def _is_derived(info: TableInfo) -> bool:
    """Whether it is no table of rows of its own: a view, or what SQLite's modules keep for a virtual table."""
    return "view" in info.kind or "virtual" in info.kind


def _note_views(pattern: str, number: int, there: Sequence[TableInfo], usual: str, findings: list[Finding]) -> None:
    if not has_pattern(pattern) or '"' in pattern or "`" in pattern:
        return
    schema, dot, name = pattern.partition(".")
    fits_schema, fits_name = name_matcher(schema if dot else usual), name_matcher(name if dot else pattern)
    views = [
        info
        for info in there
        if _is_derived(info) and fits_schema(info.table.schema or usual) and fits_name(info.table.name)
    ]
    if views:
        named = ", ".join(info.name for info in views[:_NAMED]) + (" …" if len(views) > _NAMED else "")
        called = "virtual table" if all("virtual" in info.kind for info in views) else "view"
        what = f"{pattern!r} also matches {counted(len(views), called)}, which a pattern does not take: {named}"
        findings.append(
            Finding("note", "views-left-out", what, f"from.tables.{number}", "name a view to have it copied")
        )


def table_object(dialect: Dialect, table: TableName, usual: str) -> FoundObject:
    shown = table.name if table.schema in (None, usual) else str(table)
    parts = [table.name] if table.schema is None else [table.schema, table.name]
    if all(part.isidentifier() and part.isascii() for part in parts):
        text = shown
    else:
        text = escaped(".".join(dialect.quote(part) for part in parts))
    facts = {"table": table.name, "schema": table.schema or usual}
    fact = {"schema": table.schema, "table": table.name}
    names = list(dict.fromkeys([shown, str(table), table.name]))
    return FoundObject(names, {"table": text}, facts, table=table, fact=fact)
