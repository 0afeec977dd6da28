"""`ultravect look`, `ask` and `upload`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

from ultravect.cli import completion
from ultravect.cli.login import connect
from ultravect.cli.options import ConnectionName, Json
from ultravect.cli.output import cell, print_json, print_rows, print_table, screen, size
from ultravect.cli.own_layout import own_layout
from ultravect.client import ApiError

_SHOWN_BAD = 3
_SHOWN_NOTES = (
    "column-renamed", "comments-found", "delimiter-found", "fields-found", "files-matched", "header-found", "numbers-found",
    "preamble-found", "quotes-found", "rows-found", "sheet-found", "trailing-found",
)  # fmt: skip


def look(
    connection: ConnectionName,
    name: Annotated[
        str | None,
        typer.Argument(
            metavar="[OBJECT]",
            help="A table, a file, zip/member or a pattern; left out: list them.",
            autocompletion=completion.objects,
        ),
    ] = None,
    query: Annotated[str, typer.Option(metavar="SQL", help="Look at a query instead of an object.")] = "",
    rows: Annotated[int, typer.Option(help="How many rows to show.")] = 10,
    random: Annotated[bool, typer.Option("--random", help="Rows picked at random, not the first ones.")] = False,
    counts: Annotated[bool, typer.Option("--counts", help="With value counts of each column.")] = False,
    whole: Annotated[
        bool, typer.Option("--whole", help="Types and counts from the whole file, not from its first part.")
    ] = False,
    layout: Annotated[
        str, typer.Option(metavar="NAME|YAML|FILE", help="A saved layout, or one of your own: '{delimiter: \";\"}'.")
    ] = "",
    bare: Annotated[bool, typer.Option("--bytes", help="The first bytes, as they are.")] = False,
    inside: Annotated[
        bool, typer.Option("--inside", help="List the members of a zip, or the sheets of a workbook.")
    ] = False,
    search: Annotated[str, typer.Option(help="Only names that contain this.")] = "",
    pattern: Annotated[
        str, typer.Option(help="Only files that match: * stays in a folder, ** crosses folders.")
    ] = "",
    after: Annotated[str, typer.Option(help="Only names after this one.")] = "",
    limit: Annotated[int, typer.Option(help="At most this many names.")] = 200,
    each: Annotated[
        bool, typer.Option("--each", help="Each file on a line, also those whose names differ in numbers alone.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Look at what a connection holds, or at one object: rows, types and the evidence for them."""
    with connect() as client:
        if inside and name:
            found = client.objects(connection, inside=name, search=search, after=after, limit=limit)
        elif bare and name:
            found = client.raw(connection, name)
        elif name or query:
            own = own_layout(layout) if layout else None
            shown = {"random": random, "whole": whole, "counts": counts}
            try:
                found = client.preview(connection, name or "", query=query, layout=own, rows=rows, **shown)
            except ApiError:
                # no object of this name: a folder, perhaps
                listed = name and client.objects(
                    connection, pattern=f"{name.rstrip('/')}/**", after=after, limit=limit, alike=not each
                )
                if not listed or not listed["items"]:
                    raise
                found = listed
        else:
            found = client.objects(
                connection, search=search, pattern=pattern, after=after, limit=limit, alike=not each
            )
    if as_json:
        print_json(found)
    elif "items" in found:
        _print_objects(found)
    elif "text" in found:
        _print_bytes(found)
    else:
        _print_preview(found)


def _print_objects(found: dict[str, Any]) -> None:
    items = found["items"]
    if not items:
        screen.print("nothing here")
        return
    if "modified" in items[0]:
        files = [
            (
                cell(i["name"], 100),
                f"{i['files']:,}" if i.get("files") else "",
                size(i["size"]),
                (i["modified"] or "")[:19].replace("T", " "),
            )
            for i in items
        ]
        grouped = any(row[1] for row in files)
        columns = ["name", "files", "size", "modified"]
        print_table(
            columns if grouped else [columns[0], *columns[2:]],
            files if grouped else [(row[0], *row[2:]) for row in files],
            right=["files", "size"],
        )
        if grouped:
            screen.print("[dim]files that differ in numbers alone are one line; each by itself: --each[/]")
    elif "rows" in items[0]:
        tables = [
            (cell(i["name"], 100), i["kind"], _about(i["rows"]), size(i.get("size")), cell(i["comment"] or "", 60))
            for i in items
        ]
        print_table(["name", "kind", "rows", "size", "comment"], tables, right=["rows", "size"])
    else:
        print_table(["name", "kind"], [(cell(i["name"], 100), i["kind"]) for i in items])
    if found["more"]:
        screen.print(f"… and more: narrow it with --search, or go on with --after {found['next']!r}", soft_wrap=True)


def _about(rows: int | None) -> str:
    return "" if rows is None else f"about {rows:,}"


def _print_bytes(found: dict[str, Any]) -> None:
    what = "all" if found["complete"] else "the first"
    screen.print(f"[dim]{what} {found['read']:,} bytes as {found['encoding']}: {found['reason']}[/]")
    screen.print(escape(found["text"]), soft_wrap=True)


def layout_line(layout: dict[str, Any]) -> str:
    """A layout in a few words."""
    words = [layout["format"]]
    for key, value in layout.items():
        if key in ("format", "values", "fields", "escape", "footer", "merged", "ragged", "flatten", "separator"):
            continue
        if (key == "preamble" and not value) or key in ("partitions", "keys"):
            continue
        if value == "" or (key == "quote" and value == '"') or (key in ("skip_blanks", "trailing") and not value):
            continue
        if isinstance(value, bool):
            words.append(key if value else f"no {key}")
        elif key in ("encoding", "terminator"):
            words.append(str(value) if key == "encoding" else f"{key} {value}")
        else:
            words.append(f"{key} {json.dumps(value, ensure_ascii=False)}")
    values = layout.get("values", {})
    if values.get("decimal_mark", ".") != "." or values.get("thousands"):
        thousands = f", thousands {values['thousands']!r}" if values.get("thousands") else ""
        words.append(f"decimal mark {values['decimal_mark']!r}{thousands}")
    if layout.get("fields"):
        words.append("fields of " + ", ".join(str(field["width"]) for field in layout["fields"]))
    return ", ".join(words)


def _print_preview(found: dict[str, Any]) -> None:
    screen.print(f"[bold]{escape(found['object'])}[/], {found['kind']}", end="")
    if found["kind"] == "file":
        _print_file_facts(found)
    else:
        estimate = found.get("row_estimate")
        screen.print("" if estimate is None else f", about {estimate:,} rows", end="")
        screen.print(f": {escape(found['comment'])}" if found.get("comment") else "")
        _print_table_columns(found)
    if "counts" in (found["columns"][0] if found["columns"] else {}):
        _print_counts(found["columns"])
    for finding in found["findings"]:
        if finding["severity"] != "note" or finding["code"] in _SHOWN_NOTES:
            colour = "dim" if finding["severity"] == "note" else "yellow"
            fix = f" — {finding['fix']}" if finding["fix"] and finding["severity"] != "note" else ""
            screen.print(f"[{colour}]{finding['severity']}[/]: {escape(finding['message'] + fix)}", soft_wrap=True)
    screen.print()
    print_rows([c["name"] for c in found["columns"]], found["rows"])


def _print_file_facts(found: dict[str, Any]) -> None:
    screen.print(f", {size(found['size'])}: {escape(layout_line(found['layout']))}", soft_wrap=True)
    columns = [(cell(c["name"]), c["type"], f"{c['nulls']:,}", escape(c["evidence"])) for c in found["columns"]]
    print_table(["column", "type", "empty", "evidence"], columns, right=["empty"])
    what = "all" if found["complete"] else "the first"
    count = found["rows_scanned"]
    screen.print(f"[dim]types from {what} {count:,} row{'' if count == 1 else 's'}[/]")
    if found["bad_count"]:
        shown = [
            f"row {bad['row']:,}{_in_line(bad['line'])}: {bad['reason']}" for bad in found["bad_rows"][:_SHOWN_BAD]
        ]
        screen.print(f"[yellow]warning[/]: rows that are not whole: {found['bad_count']:,}", soft_wrap=True)
        for line in shown:
            screen.print(f"  {escape(line)}", soft_wrap=True)


def _in_line(line: int | None) -> str:
    return f" (line {line:,})" if line else ""


def _print_table_columns(found: dict[str, Any]) -> None:
    commented = any(c.get("comment") for c in found["columns"])
    columns = [
        (
            cell(c["name"]),
            c["type"] or "—",
            escape(c["native"]),
            "key" if c.get("key") else "NULL" if c.get("nullable") else "",
            *([cell(c.get("comment") or "", 60)] if commented else []),
        )
        for c in found["columns"]
    ]
    print_table(["column", "type", "native", "takes", *(["comment"] if commented else [])], columns)


def _print_counts(columns: list[dict[str, Any]]) -> None:
    screen.print()
    rows = []
    for column in columns:
        counts = column["counts"]
        lengths = "" if counts["longest"] is None else f"{counts['shortest']}–{counts['longest']}"
        top = "  ".join(f"{count['value']} ×{count['count']:,}" for count in counts["top"][:3])
        distinct = "many" if counts["distinct"] is None else f"{counts['distinct']:,}"
        span = "" if counts["low"] is None else f"{counts['low']} … {counts['high']}"
        rows.append((cell(column["name"]), f"{counts['nulls']:,}", distinct, cell(span, 44), lengths, cell(top, 70)))
    print_table(
        ["column", "NULL", "distinct", "smallest … largest", "lengths", "commonest"], rows, right=["NULL", "distinct"]
    )


def ask(
    connection: ConnectionName,
    sql: Annotated[str, typer.Argument(metavar="SQL", help="One statement that reads.")],
    limit: Annotated[int, typer.Option(help="At most this many rows.")] = 200,
    seconds: Annotated[float, typer.Option(help="Give up after this long.")] = 20,
    as_json: Json = False,
) -> None:
    """Ask a database, in a transaction that cannot write."""
    with connect() as client:
        answer = client.ask(connection, sql, limit=limit, seconds=seconds)
    if as_json:
        print_json(answer)
        return
    print_rows(answer.columns, answer.rows)
    if answer.more:
        screen.print(f"… more than {limit:,} rows: raise --limit")


def upload(
    files: Annotated[list[Path], typer.Argument(metavar="FILE…", exists=True, dir_okay=False)],
    into: Annotated[str, typer.Option(help="A folder in the connection `uploads`.")] = "",
    replace: Annotated[bool, typer.Option("--replace", help="Replace files of the same name.")] = False,
    as_json: Json = False,
) -> None:
    """Send files to the service, into its connection `uploads`."""
    sent = []
    with connect() as client:
        for path in files:
            with path.open("rb") as content:
                name = f"{into.strip('/')}/{path.name}".lstrip("/")
                sent.append(client.upload(name, content, replace=replace))
            if not as_json:
                screen.print(
                    f"uploaded {name}, {size(sent[-1].size)}; look at it: ultravect look uploads {name}",
                    soft_wrap=True,
                )
    if as_json:
        print_json(sent)
