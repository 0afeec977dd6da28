"""`streams` and `stream …`: jobs that follow the log of their source."""

from __future__ import annotations

import datetime as dt
import time
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import cell, print_json, print_table, screen
from ultravect.client import Stream, StreamLine

app = typer.Typer(help="Streams: jobs that follow the log of their source.", no_args_is_help=True)
Job = Annotated[str, typer.Argument(metavar="JOB")]
Why = Annotated[str, typer.Option("--why", help="For those who wonder.")]

_COLOURS = {
    "following": "green",
    "snapshot": "cyan",
    "waiting": "yellow",
    "paused": "yellow",
    "failed": "red",
    "stopped": "dim",
}
_EVENTS = 12
_MINUTES = 15
_POLL_SECONDS = 0.3


def streams(as_json: Json = False) -> None:
    """List streams: jobs that follow the log of their source, and the lag of their targets."""
    with connect() as client:
        found = client.streams()
    if as_json:
        print_json(found)
    elif not found:
        screen.print("no job follows a log yet; in a job file: from: {newer: log}; then: ultravect stream start JOB")
    else:
        print_table(
            ["stream", "state", "lag", "changes", "tables", "from", "into", "note"],
            [
                (
                    escape(item.job),
                    _state(item),
                    _lag(item),
                    f"{sum(table.changes for table in item.tables):,}",
                    str(len(item.tables)),
                    cell(item.source),
                    cell(item.target),
                    cell(item.error["detail"] if item.error else "", 60),
                )
                for item in found
            ],
            whole=True,
        )


def _state(item: StreamLine | Stream) -> str:
    return f"[{_COLOURS.get(item.state, 'white')}]{item.state}[/]"


def _lag(item: StreamLine | Stream) -> str:
    if item.state != "following" or item.lag is None or item.lag_at is None:
        return "[dim]–[/]"
    seconds = item.lag
    age = (dt.datetime.now(dt.UTC) - item.lag_at).total_seconds()
    shown = f"{seconds:.1f} s" if seconds < 120 else f"{seconds / 60:.0f} min"
    return shown if age < 120 else f"{shown} [dim]({age / 60:.0f} min ago)[/]"


@app.command("show")
def show(name: Job, as_json: Json = False) -> None:
    """Show a stream: its tables, what it did in the last minutes, and what was said."""
    with connect() as client:
        found = client.stream(name)
        minutes = client.stream_minutes(name, _MINUTES / 60)
    if as_json:
        print_json(found)
        return
    _print(found)
    if minutes:
        screen.print()
        print_table(
            ["minute", "changes", "inserted", "updated", "deleted", "rejected", "longest lag"],
            [
                (
                    line.minute.astimezone().strftime("%H:%M"),
                    *(
                        f"{count:,}"
                        for count in (line.changes, line.inserted, line.updated, line.deleted, line.rejected)
                    ),
                    f"{line.lag:.1f} s",
                )
                for line in minutes
            ],
        )
    if found.events:
        screen.print()
        for event in reversed(found.events[:_EVENTS]):
            colour = {"error": "red", "warning": "yellow"}.get(event.level, "dim")
            at = event.at.astimezone().strftime("%H:%M:%S")
            screen.print(f"[dim]{at}[/] [{colour}]{event.level}[/] {escape(event.text)}", soft_wrap=True)


def _print(found: Stream) -> None:
    since = found.since.astimezone().strftime("%Y-%m-%d %H:%M")
    screen.print(
        f"{escape(found.job)}  {_state(found)} since {since}  {escape(found.source)} → {escape(found.target)}",
        soft_wrap=True,
    )
    if found.position:
        kept = (
            "" if found.log_kept is None else f"; its source keeps {found.log_kept / 1e6:,.1f} MB of its log for it"
        )
        screen.print(
            f"the target has the log up to {escape(found.position)}; lag: {_lag(found)}{kept}", soft_wrap=True
        )
    if found.newest_revision != found.revision:
        screen.print(
            f"[yellow]it runs as revision {found.revision}, and the job is at {found.newest_revision}: "
            f"ultravect stream start {escape(found.job)} takes that[/]",
            soft_wrap=True,
        )
    if found.error:
        screen.print(f"[red]{escape(found.error['code'])}[/]: {escape(found.error['detail'])}", soft_wrap=True)
        if found.error.get("hint"):
            screen.print(f"  {escape(found.error['hint'])}", soft_wrap=True)
    if found.tables:
        print_table(
            ["table", "state", "copied at first", "changes", "inserted", "updated", "deleted", "rejected"],
            [
                (
                    cell(table.object),
                    table.state,
                    *(
                        f"{count:,}"
                        for count in (
                            table.rows,
                            table.changes,
                            table.inserted,
                            table.updated,
                            table.deleted,
                            table.rejected,
                        )
                    ),
                )
                for table in found.tables
            ],
        )


@app.command("start")
def start(
    name: Job,
    wait: Annotated[
        bool, typer.Option("--wait", help="Until its tables are copied, and it follows the log.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Start the stream of a job: its tables are copied once, then it follows the log of their source."""
    with connect() as client:
        found = client.start_stream(name)
        while wait and found.state in ("waiting", "snapshot"):
            time.sleep(_POLL_SECONDS)
            found = client.stream(name)
    if as_json:
        print_json(found)
    elif wait:
        _print(found)
    else:
        screen.print(
            f"the stream of {name} is {found.state}; see how it goes: ultravect stream show {name}", soft_wrap=True
        )
    if found.state in ("failed", "paused"):
        raise typer.Exit(1)


@app.command("resume")
def resume(name: Job) -> None:
    """Have a stream go on that was paused or stopped, or has failed; by the job as it is now."""
    with connect() as client:
        found = client.start_stream(name)
    screen.print(f"the stream of {name} is {found.state}", soft_wrap=True)


@app.command("pause")
def pause(name: Job, why: Why = "") -> None:
    """Let a stream rest for a while; the source keeps its log until it is resumed."""
    with connect() as client:
        client.pause_stream(name, why)
    screen.print(
        f"the stream of {name} is paused; its source keeps its log meanwhile: ultravect stream resume {name}",
        soft_wrap=True,
    )


@app.command("stop")
def stop(name: Job, why: Why = "") -> None:
    """End a stream; the source keeps its log, so that it can be started again, until the stream is removed."""
    with connect() as client:
        client.stop_stream(name, why)
    screen.print(
        f"the stream of {name} is stopped; its source keeps its log: start it again, or give that up: ultravect stream remove {name}",
        soft_wrap=True,
    )


@app.command("remove")
def remove(
    name: Job,
    leave: Annotated[
        bool, typer.Option("--leave", help="Leave at the source what it keeps: where it cannot be reached any more.")
    ] = False,
) -> None:
    """End a stream, and have its source give up what it keeps for it; what was copied stays."""
    with connect() as client:
        client.remove_stream(name, leave=leave)
    kept = "what its source keeps for it was left there" if leave else "its source keeps nothing for it any more"
    screen.print(f"the stream of {name} is removed; {kept}", soft_wrap=True)


@app.command("rejects")
def rejects(
    name: Job,
    object_: Annotated[str, typer.Option("--object", help="Of one table.")] = "",
    as_json: Json = False,
) -> None:
    """List the changes that did not fit the target, the newest first."""
    with connect() as client:
        found = client.stream_rejects(name, object=object_)
    if as_json:
        print_json(found.items)
    elif not found.items:
        screen.print("no change was rejected")
    else:
        print_table(
            ["table", "key", "column", "value", "reason"],
            [
                (cell(item.object), cell(item.key), cell(item.column), cell(item.value), cell(item.reason, 120))
                for item in found.items
            ],
        )
