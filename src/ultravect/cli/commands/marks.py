"""`mark`: how far a job that copies what is new has come."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import JobName, Json
from ultravect.cli.output import cell, print_json, print_table, screen

_SHOWN_FILES = 20


def mark(
    name: JobName,
    value: Annotated[
        str, typer.Option("--set", metavar="VALUE", help="Have the next run begin above this value.")
    ] = "",
    reset: Annotated[bool, typer.Option("--reset", help="Forget it: the next run copies all there is.")] = False,
    object_: Annotated[str, typer.Option("--object", help="Only of this object, of a job with many.")] = "",
    as_json: Json = False,
) -> None:
    """Show how far a job has copied what is new, as its target says; or set it."""
    if value and reset:
        raise typer.BadParameter("--set and --reset are two things: give one of them")
    with connect() as client:
        if value:
            found = client.set_mark(name, value, object=object_)
        elif reset:
            found = client.reset_mark(name, object=object_)
        else:
            found = [item for item in client.marks(name) if object_ in ("", item.object)]
    if as_json:
        print_json(found)
        return
    if any(item.column for item in found):
        rows = [
            (
                cell(item.object),
                cell(item.target),
                cell(item.column),
                cell(item.value) if item.value else "[dim]none yet[/]",
            )
            for item in found
        ]
        print_table(["object", "target", "by", "mark"], rows)
        return
    for item in found:
        count = "1 file was" if item.files == 1 else f"{item.files:,} files were"
        screen.print(f"{escape(item.object)} → {escape(item.target)}: {count} copied", soft_wrap=True)
        for path in item.names[:_SHOWN_FILES]:
            screen.print(f"  {escape(path)}", soft_wrap=True)
        if item.files > _SHOWN_FILES:
            screen.print(f"  [dim]and {item.files - _SHOWN_FILES:,} more; --json names them[/]")
