"""Browse a connection and preview an object, before anything moves."""

from __future__ import annotations

from typing import Any

from ultravect.core.engine.connections import ConnectionSpec, database_of, holds_tables, source_file, storage_of
from ultravect.core.engine.plan import nearest_table
from ultravect.core.engine.scan import SAMPLE_BYTES, scan_columns
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.delimited.reader import open_delimited
from ultravect.core.model.layout import DelimitedLayout

_ASK_SECONDS = 20.0


def list_objects(spec: ConnectionSpec, search: str, limit: int) -> list[dict[str, Any]]:
    """Files or tables whose name contains ``search``, at most ``limit``."""
    if holds_tables(spec.kind):
        return [
            {"name": info.name, "kind": info.kind, "rows": info.rows}
            for info in database_of(spec).tables(search, limit)
        ]
    return [
        {"name": info.path, "kind": "file", "size": info.size, "modified": info.modified.isoformat()}
        for info in storage_of(spec).list(search, limit)
    ]


def preview(
    spec: ConnectionSpec, name: str, *, rows: int, whole: bool, layout: DelimitedLayout | None = None
) -> dict[str, Any]:
    """The first rows and the columns of an object; ``whole``: types from all of a file, not from its first part."""
    if holds_tables(spec.kind):
        return _preview_table(spec, name, rows)
    reader = open_delimited(source_file(spec, name), layout)
    scan = scan_columns(reader, list(range(len(reader.names))), limit=None if whole else SAMPLE_BYTES, head_rows=rows)
    return {
        "object": name,
        "kind": "file",
        "size": reader.file.size,
        "layout": reader.layout.model_dump(mode="json", exclude_none=True),
        "findings": [finding.as_dict() for finding in reader.findings],
        "columns": [scan.columns[position].as_dict() for position in range(len(reader.names))],
        "rows": scan.head,
        "rows_scanned": scan.rows,
        "complete": scan.complete,
        "ragged_rows": [{"row": row, "values": one.found} for row, one in scan.ragged],
        "ragged_count": scan.ragged_rows,
    }


def _preview_table(spec: ConnectionSpec, name: str, rows: int) -> dict[str, Any]:
    database = database_of(spec)
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
    answer = database.ask(f"SELECT * FROM {database.dialect.table(live.name)} LIMIT {int(rows)}", rows, _ASK_SECONDS)
    return {
        "object": str(live.name),
        "kind": live.kind,
        "columns": [
            {
                "name": column.name,
                "type": str(column.type) if column.type else "",
                "native": column.native,
                "nullable": column.nullable,
            }
            for column in live.columns
        ],
        "rows": answer.rows,
        "findings": [],
    }
