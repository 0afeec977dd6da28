"""What comes of a run: `rejects`, `changes`, `differences`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.commands.runs import Number
from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import (
    cell,
    print_changes,
    print_json,
    print_table,
    screen,
)
from ultravect.client import Client

_FORMS = {".csv": "csv", ".jsonl": "jsonl"}


def changes(
    number: Number,
    kind: Annotated[str, typer.Option(help="Only these: updated, added, gone or repeated.")] = "",
    limit: Annotated[int, typer.Option(help="At most this many.")] = 20,
    as_json: Json = False,
) -> None:
    """Show rows that a run changed, before and after, column by column."""
    with connect() as client:
        found = client.changes(number, kind=kind, page_size=max(1, min(limit, 200)))
        run = client.show(number)
    if as_json:
        print_json(found)
    else:
        print_changes(run, found)


def rejects(
    number: Number,
    column: Annotated[str | None, typer.Option(help="Only of this column.")] = None,
    object_: Annotated[str, typer.Option("--object", help="Only of this file or table.")] = "",
    search: Annotated[str, typer.Option(help="Only with this in reason, value or row.")] = "",
    limit: Annotated[int, typer.Option(help="At most this many.")] = 50,
    to: Annotated[
        Path | None, typer.Option("--to", metavar="FILE", help="Write all of them into a .csv or .jsonl file.")
    ] = None,
    as_json: Json = False,
) -> None:
    """List the rows that a run rejected, with the reasons."""
    with connect() as client:
        if to is not None:
            _write_rejects(client, number, to, column, object_, search)
            return
        size = max(1, min(limit, 200))
        found = client.rejects(number, column=column, object=object_, search=search, page_size=size)
    if as_json:
        print_json(found)
        return
    if not found.items:
        narrowed = " like that" if column is not None or object_ or search else ""
        screen.print(f"run {number} has no rejects{narrowed}")
        return
    # no value is known of what could not be computed
    shown = [
        (cell(item.column), "" if item.value is None else cell(item.value), escape(item.reason))
        for item in found.items
    ]
    if any(item.key for item in found.items):
        # where a row of a table stood says little
        print_table(
            ["row", "column", "value", "reason"],
            [(escape(item.place), *rest) for item, rest in zip(found.items, shown, strict=True)],
        )
    else:
        places = [(f"{item.row:,}", f"{item.line:,}" if item.line else "") for item in found.items]
        print_table(
            ["row", "line", "column", "value", "reason"],
            [(*place, *rest) for place, rest in zip(places, shown, strict=True)],
            right=["row", "line"],
        )
    if found.total > len(found.items):
        screen.print(
            f"[dim]{len(found.items)} of {found.total:,}; raise --limit, or write them all: --to rejects.csv[/]"
        )


def _write_rejects(client: Client, number: int, to: Path, column: str | None, name: str, search: str) -> None:
    form = _FORMS.get(to.suffix)
    if form is None:
        raise typer.BadParameter(f"--to is written FILE.csv or FILE.jsonl, not {to}")
    try:
        to.write_bytes(client.rejects_file(number, form, column=column, object=name, search=search))
    except OSError as error:
        raise typer.BadParameter(f"{to} cannot be written: {error.strerror}") from None
    screen.print(f"wrote {to}")


def differences(
    number: Number,
    earlier: Annotated[
        int | None, typer.Option("--from", metavar="RUN", help="Another run of the job; left out: the one before.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Compare a run with the one before of its job, or with another: file, plan, rows and times."""
    with connect() as client:
        found = client.differences(number, earlier)
    if as_json:
        print_json(found)
        return
    screen.print(f"run {found.after.id} of {found.after.job}, compared with run {found.before.id}")
    rows = [
        (
            item.part,
            escape(f"{item.leg}: {item.name}" if item.leg else item.name),
            cell(item.before),
            cell(item.after),
        )
        for item in found.items
    ]
    print_table(["part", "what", f"run {found.before.id}", f"run {found.after.id}"], rows, whole=True)
    if found.file:
        screen.print("\nthe job file:")
        for line in found.file:
            screen.print(escape(line), style="green" if line[:1] == "+" else "red" if line[:1] == "-" else "dim")
