"""Browse a connection and preview an object, before anything moves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ultravect.core.contracts.catalogue import LiveTable, TableInfo
from ultravect.core.contracts.storage import Listing
from ultravect.core.contracts.target import Database
from ultravect.core.engine.look.profile import Profile
from ultravect.core.engine.look.sample import FirstRows, RandomRows
from ultravect.core.engine.look.table_profile import count_values
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, holds_tables, storage_of
from ultravect.core.engine.objects.sources import open_source, source_file, stored_file
from ultravect.core.engine.objects.tables import nearest_table
from ultravect.core.engine.plan.source.expected_columns import misfits, uneven
from ultravect.core.engine.plan.source.proposals import value_findings
from ultravect.core.engine.plan.source.scan import SAMPLE_BYTES, Taker, scan_columns
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.archive import members, split_archive
from ultravect.core.layouts.formats import format_of
from ultravect.core.layouts.workbook.reader import sheet_names
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.layout import AnyLayout

_OWN = "ultravect_"
"""How the names begin of tables that are our own: receipts, marks, and what is being staged."""

_ASK_SECONDS = 20.0
# a preview is looked at, not waited for: this much is enough for the types
_PREVIEW_BYTES = 512 << 10


@dataclass(frozen=True)
class Wanted:
    """What a preview is to show. ``whole``: types from all of a file, not from its first part."""

    rows: int = 20
    random: bool = False
    whole: bool = False
    counts: bool = False


def list_objects(spec: ConnectionSpec, listing: Listing) -> list[dict[str, Any]]:
    """Files or tables, sorted by name."""
    if holds_tables(spec.kind):
        if listing.pattern:
            raise UltravectError(
                "pattern-not-supported",
                "tables are searched for, not matched by a pattern",
                hint="use search instead",
            )
        return [
            {"name": info.name, "kind": info.kind, "rows": info.rows, "size": info.size, "comment": info.comment}
            for info in _tables(database_of(spec), listing)
        ]
    return [
        {
            "name": info.path,
            "kind": "file",
            "size": info.size if info.size >= 0 else None,
            "modified": info.modified.isoformat() if info.modified else None,
        }
        for info in storage_of(spec).list(listing)
    ]


def _tables(database: Database, listing: Listing) -> list[TableInfo]:
    """Tables without those that loads and streams keep for themselves, unless it is them that are searched for."""
    if _OWN in listing.search.lower():
        return list(database.tables(listing.search, listing.after, listing.limit))
    found: list[TableInfo] = []
    after = listing.after
    while len(found) < listing.limit:
        page = database.tables(listing.search, after, listing.limit)
        found += [info for info in page if not info.table.name.lower().startswith(_OWN)]
        if len(page) < listing.limit:
            break
        after = page[-1].name
    return found[: listing.limit]


def list_inside(spec: ConnectionSpec, path: str, listing: Listing) -> list[dict[str, Any]]:
    """Members of a zip, or sheets of a workbook."""
    archive = split_archive(path)
    if archive and not archive[1]:
        with stored_file(spec, path) as stream:
            found = members(stream, path)
        by_name = {f"{path}/{item.name}": item for item in found}
        return [
            {"name": name, "kind": "file", "size": by_name[name].size, "modified": by_name[name].modified.isoformat()}
            for name in listing.pick(iter(by_name))
        ]
    file = source_file(spec, path)
    name, _ = format_of(file)
    if name != "xlsx":
        raise UltravectError(
            "nothing-inside",
            f"{path} holds no other objects: it is {name}",
            hint="only zip archives and workbooks do",
            object=path,
        )
    return [{"name": sheet, "kind": "sheet"} for sheet in listing.pick(iter(sheet_names(file)))]


def preview(
    spec: ConnectionSpec,
    name: str,
    wanted: Wanted,
    layout: AnyLayout | None = None,
    saved: LayoutFile | None = None,
) -> dict[str, Any]:
    """Rows and columns of a table, of a file, or of all files that a pattern matches.

    Files are read with ``layout``, or with a ``saved`` one; whether they fit that is among the findings.
    """
    if holds_tables(spec.kind):
        return _preview_table(spec, name, wanted)
    reader = open_source(spec, name, saved.reads if saved else layout)
    sample = RandomRows(wanted.rows) if wanted.random else FirstRows(wanted.rows)
    profile = Profile(len(reader.names)) if wanted.counts else None
    takers: list[Taker] = [sample, *([profile] if profile else [])]
    limit = None if wanted.whole else SAMPLE_BYTES if wanted.random or wanted.counts else _PREVIEW_BYTES
    scan = scan_columns(reader, list(range(len(reader.names))), limit=limit, takers=takers)
    findings = [*reader.findings, *value_findings(reader, scan.columns.values())]
    if saved:
        findings += misfits(saved.layout, saved.expects, reader.names, scan.columns)
        findings += uneven(saved.layout, scan.bad_rows, scan.rows)
    columns = []
    for position in range(len(reader.names)):
        column = scan.columns[position]
        counts = (
            {"counts": profile.counts(position, str(column.type), column.low, column.high).as_dict()}
            if profile
            else {}
        )
        columns.append({**column.as_dict(), **counts})
    return {
        "object": name,
        "kind": "file",
        "size": reader.file.size,
        "layout": reader.layout.model_dump(mode="json", exclude_none=True),
        "findings": [finding.as_dict() for finding in findings],
        "columns": columns,
        "rows": sample.rows,
        "row_numbers": sample.numbers,
        "rows_scanned": scan.rows,
        "complete": scan.complete,
        "bad_rows": [item.as_dict() for item in scan.bad],
        "bad_count": scan.bad_rows,
    }


def _live_table(spec: ConnectionSpec, database: Database, name: str) -> LiveTable:
    try:
        table = database.dialect.parse_table(name)
    except ValueError as error:
        raise UltravectError("table-name-invalid", str(error), connection=spec.name, object=name) from None
    live = database.table(table)
    if live is None:
        near = nearest_table(database, table)
        raise UltravectError(
            "table-missing",
            f"connection {spec.name} has no table {name!r}",
            hint=near or "look at the connection to see its tables",
            connection=spec.name,
            object=name,
        )
    return live


def _preview_table(spec: ConnectionSpec, name: str, wanted: Wanted) -> dict[str, Any]:
    database = database_of(spec)
    live = _live_table(spec, database, name)
    table = database.dialect.table(live.name)
    order = f" ORDER BY {database.dialect.random_value}" if wanted.random else ""
    first = database.dialect.first_rows(f"SELECT * FROM {table}{order}", int(wanted.rows))
    answer = database.ask(first, wanted.rows, _ASK_SECONDS)
    columns: list[dict[str, Any]] = [
        {
            "name": column.name,
            "type": str(column.type) if column.type else "",
            "native": column.native,
            "nullable": column.nullable,
            "key": column.key,
            "comment": column.comment,
        }
        for column in live.columns
    ]
    if wanted.counts:
        for column, counts in zip(
            columns, count_values(database, table, live.columns, whole=wanted.whole), strict=True
        ):
            column["counts"] = counts
    return {
        "object": str(live.name),
        "kind": live.kind,
        "row_estimate": live.rows,
        "comment": live.comment,
        "columns": columns,
        "rows": answer.rows,
        "findings": [],
    }


def preview_query(spec: ConnectionSpec, sql: str, wanted: Wanted) -> dict[str, Any]:
    """The first rows of a query, which cannot write, and the types of its columns."""
    database = database_of(spec)
    answer = database.ask(sql, wanted.rows, _ASK_SECONDS)
    types: Sequence[str] = [
        str(database.dialect.to_canonical(native) or "") if native else "" for native in answer.natives
    ]
    return {
        "object": sql,
        "kind": "query",
        "columns": [
            {"name": name, "type": kind, "native": native}
            for name, kind, native in zip(answer.columns, types, answer.natives, strict=True)
        ],
        "rows": answer.rows,
        "more": answer.more,
        "findings": [],
    }
