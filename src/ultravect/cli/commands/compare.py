"""`compare`: which rows differ between two sides."""

from __future__ import annotations

from typing import Annotated

import typer

from ultravect.cli.commands.runs import see_through
from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import cell, print_json, print_table, screen
from ultravect.client import ComparedRow, Comparison, JobComparison

_SHOWN = 20
_WIDE = 60
_PLACES = {"source": "only in the source", "target": "only in the target", "both": "different"}


def compare(
    what: Annotated[str, typer.Argument(metavar="JOB|CONNECTION:OBJECT", help="A saved job, or an object.")],
    other: Annotated[
        str | None, typer.Argument(metavar="CONNECTION:OBJECT", help="The object that it is compared with.")
    ] = None,
    keys: Annotated[
        str,
        typer.Option(
            "--keys", metavar="COLUMN,…", help="By which rows are the same one. Left out: the target's key."
        ),
    ] = "",
    columns: Annotated[
        str, typer.Option("--columns", metavar="COLUMN,…", help="Only these are compared. Left out: all.")
    ] = "",
    where: Annotated[str, typer.Option("--where", help="Only rows for which this is true.")] = "",
    settle: Annotated[
        float, typer.Option("--settle", min=0, help="Seconds after which rows that differ are looked at once more.")
    ] = 2.0,
    name: Annotated[
        str, typer.Option("--object", help="Which object, of a job with many. Left out: the first.")
    ] = "",
    repair: Annotated[
        bool, typer.Option("--repair", help="Then load the rows that differ, and no others, by a run of the job.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Say which rows differ between a job's source and its target, or between two objects."""
    if other is None and ":" in what:
        raise typer.BadParameter(f"name the object that {what} is compared with, as CONNECTION:OBJECT")
    if repair and (other is not None or where or columns):
        raise typer.BadParameter(
            "--repair loads whole rows of a job's whole table: it goes with no second object, --where and --columns"
        )
    asked = {"keys": _names(keys), "columns": _names(columns), "where": where, "settle_seconds": settle}
    with connect() as client:
        if other is None:
            compared = client.compare_job(what, object=name, repair=repair, **asked)  # type: ignore[arg-type]
            result: Comparison | JobComparison = compared
            number = compared.run
        else:
            result, number = client.compare(_side(what), _side(other), **asked), None  # type: ignore[arg-type]
        if as_json:
            print_json(result)
        else:
            _print(result)
        if number is not None:
            if as_json:
                client.wait(number)
            see_through(client, client.show(number), detach=False, as_json=False)
            return
    if not result.equal:
        raise typer.Exit(1)


def _names(listed: str) -> list[str]:
    return [name.strip() for name in listed.split(",") if name.strip()]


def _side(text: str) -> tuple[str, str]:
    connection, mark, name = text.partition(":")
    if not (connection and mark and name):
        raise typer.BadParameter(f"an object is written CONNECTION:OBJECT, not {text!r}")
    return connection, name


def _print(result: Comparison | JobComparison) -> None:
    for finding in result.findings:
        screen.print(f"[yellow]{finding.severity}[/] {cell(finding.message, 200)}")
    by = f"by {', '.join(result.keys)}" if result.keys else "by whole rows"
    screen.print(f"{result.rows_source:,} rows in the source, {result.rows_target:,} in the target, compared {by}")
    if result.equal:
        screen.print("[green]equal[/]")
        return
    counts = {
        "only in the source": result.only_source,
        "only in the target": result.only_target,
        "different": result.different,
        "rejected": result.rejected,
    }
    least = "" if result.complete else "at least "
    said = ", ".join(f"{least}{count:,} {word}" for word, count in counts.items() if count)
    screen.print(f"[red]{said or 'not equal'}[/]")
    if result.rejected:
        screen.print("rejected rows do not fit into the target; `ultravect rehearse` says why")
    shown = result.differences[:_SHOWN]
    if not shown:
        return
    print_table(
        [*result.keys, "row", "column", "source", "target"], [line for row in shown for line in _lines(result, row)]
    )
    if len(result.differences) > _SHOWN or not result.complete:
        screen.print(f"the first {len(shown)}; --json has up to 1,000")


def _lines(result: Comparison | JobComparison, row: ComparedRow) -> list[list[str]]:
    """A line for each column of a row that is on both sides, one for any other."""
    keys = [cell(row.keys[name]) for name in result.keys]
    place = _PLACES[row.where]
    if row.where != "both":
        sides = {name: getattr(value, row.where) for name, value in row.values.items()}
        values = ", ".join(f"{name} {'NULL' if value is None else value}" for name, value in sides.items())
        values = cell(values if len(values) <= _WIDE else f"{values[: _WIDE - 1]}…", _WIDE)
        return [[*keys, place, "", *((values, "") if row.where == "source" else ("", values))]]
    return [[*keys, place, name, cell(value.source), cell(value.target)] for name, value in row.values.items()]
