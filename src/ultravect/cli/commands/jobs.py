"""Jobs: `jobs`, `job`, `draft`, `check`, `rehearse`, `types`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.legs import print_checked_legs
from ultravect.cli.login import connect
from ultravect.cli.options import JobName, JobOrFile, Json
from ultravect.cli.output import (
    cell,
    print_check,
    print_json,
    print_rehearsal,
    print_table,
    screen,
    state,
)
from ultravect.cli.own_layout import own_layout
from ultravect.client import RunSummary

_ENDINGS = (".yaml", ".yml")
_SHOWN_REJECTS = 5
_WIDE = 110  # columns of a terminal in which there is room for what a job is about


def jobs(
    search: Annotated[str, typer.Option(help="Only names that contain this.")] = "", as_json: Json = False
) -> None:
    """List jobs, with the last run of each."""
    with connect() as client:
        found = client.jobs(search=search)
    if as_json:
        print_json(found)
        return
    if not found.items:
        screen.print("no jobs yet; save one: ultravect save job.yaml")
        return
    rows = []
    for job in found.items:
        last = job.last_run
        if job.stream is not None:
            summary = f"stream {state(job.stream)}"
        else:
            summary = _shown(last) if last else "[dim]never run[/]"
        rows.append((job.name, escape(job.source), escape(job.target), summary, escape(job.about)))
    columns = ["job", "from", "into", "last run", "about"]
    shown = len(columns) if screen.width >= _WIDE else len(columns) - 1
    print_table(columns[:shown], [row[:shown] for row in rows])


def job(name: JobName, as_json: Json = False) -> None:
    """Show a job's file, and its last run."""
    with connect() as client:
        found = client.job(name)
    if as_json:
        print_json(found)
        return
    screen.print(f"[dim]# job {found.name}, revision {found.revision}[/]")
    screen.print(escape(found.file.rstrip()), soft_wrap=True)
    if found.last_run:
        screen.print(f"[dim]# last run:[/] {_shown(found.last_run)}")


def _shown(last: RunSummary) -> str:
    """How a job's last run ended; the undo of a run is no load."""
    what = "" if last.kind == "load" else f" ({last.kind} of {last.origin})"
    return f"{state(last.state)}, run {last.id}{what}"


def _job_text(what: str, as_json: bool) -> str | None:
    """The text of a job file; None where a saved job is named. Ends the command where the file has problems."""
    path = Path(what)
    if path.suffix not in _ENDINGS and not path.exists():
        return None
    from ultravect.cli.commands.files import job_text

    return job_text(path, as_json)


def _place(text: str, option: str) -> tuple[str, str]:
    connection, mark, name = text.partition(":")
    if not (connection and mark and name):
        raise typer.BadParameter(f"{option} is written CONNECTION:OBJECT, such as warehouse:ledger.booking")
    return connection, name


def draft(
    source: Annotated[
        list[str],
        typer.Option(
            "--from",
            metavar="CONNECTION:OBJECT",
            help="A table, view, file, sheet (book.xlsx/June) or pattern of files; CONNECTION alone with --query. Given "
            "several times, or with a pattern of tables (reservations:*): a job that copies each.",
        ),
    ],
    target: Annotated[
        str, typer.Option("--into", metavar="CONNECTION:OBJECT", help="A table, there or to be made; or a file.")
    ],
    layout: Annotated[
        str, typer.Option(metavar="NAME|YAML|FILE", help="A saved layout, or one of your own: '{delimiter: \";\"}'.")
    ] = "",
    mode: Annotated[str, typer.Option(help="append, overwrite or upsert.")] = "append",
    keys: Annotated[str, typer.Option(metavar="COLUMN,…", help="What an upsert matches by.")] = "",
    sheet: Annotated[str, typer.Option(help="The sheet of a workbook.")] = "",
    query: Annotated[str, typer.Option(metavar="SQL", help="Copy a query of the connection --from.")] = "",
    as_json: Json = False,
) -> None:
    """Write a job file with every column mapped, its type and its fit, ready to edit."""
    places = [(item.partition(":")[0], "") if query else _place(item, "--from") for item in source]
    from_connection = places[0][0]
    if any(connection != from_connection for connection, _ in places) or (query and len(places) > 1):
        raise typer.BadParameter("--from names objects of one connection")
    names = [name for _, name in places]
    many = len(names) > 1 or "*" in names[0]
    from_object = names[0] if len(names) == 1 else names
    into_connection, into_object = _place(target, "--into")
    if mode not in ("append", "overwrite", "upsert"):
        raise typer.BadParameter("--mode is append, overwrite or upsert")
    if mode == "upsert" and not keys and not many:
        raise typer.BadParameter("--mode upsert needs --keys, such as --keys booking_id")
    own = own_layout(layout) if layout else None
    if sheet:
        own = {**(own if isinstance(own, dict) else {}), "format": "xlsx", "sheet": sheet}
    with connect() as client:
        text = client.draft(
            from_connection,
            from_object,
            into_connection,
            into_object,
            query=query,
            layout=own,
            mode=mode,
            keys=[key.strip() for key in keys.split(",") if key.strip()],
        )
    if as_json:
        print_json({"file": text})
    else:
        sys.stdout.write(text)


def rehearse(
    what: JobOrFile,
    rows: Annotated[int, typer.Option("--rows", min=1, help="How many rows to try, at least.")] = 1000,
    whole: Annotated[bool, typer.Option("--all", help="Try all rows.")] = False,
    name: Annotated[
        str, typer.Option("--object", help="Which object, of a job with many. Left out: the first.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Take the first rows of a job through read and shape; nothing is written."""
    text = _job_text(what, as_json)
    with connect() as client:
        if text is None:
            result = client.rehearse_job(what, rows=rows, all=whole, object=name)
        else:
            result = client.rehearse_file(text, rows=rows, all=whole, object=name)
    if as_json:
        print_json(result)
    else:
        print_rehearsal(result)
    if not result.passed:
        raise typer.Exit(1)


def types(
    source: Annotated[
        str | None, typer.Option("--from", metavar="DIALECT", help="Only the types of this one.")
    ] = None,
    target: Annotated[
        str | None, typer.Option("--into", metavar="DIALECT", help="Only what they become here.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Show how each database's types translate, and with which fit."""
    with connect() as client:
        rows = client.types(source, target)
    if as_json:
        print_json(rows)
        return
    named = len({(row.source, row.target) for row in rows}) > 1
    if rows and not named:
        screen.print(f"from {rows[0].source} into {rows[0].target}")
    lines = []
    for row in rows:
        shown = [cell(row.native), row.canonical or "[dim]none[/]", cell(row.becomes), row.fit, escape(row.change)]
        lines.append([row.source, row.target, *shown] if named else shown)
    columns = ["native", "canonical", "becomes", "fit", "change"]
    print_table(["from", "into", *columns] if named else columns, lines, whole=True)


def check(
    what: JobOrFile,
    as_json: Json = False,
) -> None:
    """Look at a job, its live source and its live target; nothing moves."""
    text = _job_text(what, as_json)
    with connect() as client:
        result = client.check_job(what) if text is None else client.check_file(text)
    if as_json:
        print_json(result)
    else:
        if result.legs:
            print_checked_legs(result)
        print_check(result)
    if not result.passed:
        raise typer.Exit(1)
