"""`ultravect today`: what there is to know this morning."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import print_json, screen, state
from ultravect.client import Today
from ultravect.client.generated import Upcoming


def _upcoming(item: Upcoming) -> str:
    return f"{item.job} {item.at.astimezone(ZoneInfo(item.timezone)):%a %H:%M} ({item.timezone})"


def today(as_json: Json = False) -> None:
    """Show what failed and why, what is late, what runs now, what comes next, and what was rejected."""
    with connect() as client:
        found = client.today()
    if as_json:
        print_json(found)
        return
    print_today(found)


def print_today(found: Today) -> None:
    """What needs a look first, then what runs and what comes."""
    for cause in found.failed:
        runs = ", ".join(map(str, cause.runs[:5])) + (
            f" and {len(cause.runs) - 5} more" if len(cause.runs) > 5 else ""
        )
        screen.print(
            f"{state('failed')} [bold]{escape(', '.join(cause.jobs))}[/] (run {runs}): {escape(cause.detail)}",
            soft_wrap=True,
        )
        if cause.hint:
            screen.print(f"  {escape(cause.hint)}", soft_wrap=True)
    for late in found.late:
        screen.print(
            f"[yellow]late[/] [bold]{escape(late.job)}[/]: should have succeeded by {late.due} ({late.timezone})",
            soft_wrap=True,
        )
    for item in found.waiting:
        screen.print(
            f"[yellow]not run[/] [bold]{escape(item.job)}[/]: waits for {escape(', '.join(item.waits_for))}, which did not succeed for "
            f"{item.scheduled_for.astimezone():%Y-%m-%d %H:%M}",
            soft_wrap=True,
        )
    if not (found.failed or found.late or found.waiting):
        screen.print("[green]✓[/] nothing failed that was not made good, and nothing is late")
    for run in found.under_way:
        screen.print(f"{state(run.state)} {escape(run.job)}, run {run.id}")
    for rejected in found.rejected:
        screen.print(
            f"[yellow]rejected[/] {rejected.rows:,} rows of {escape(rejected.job)}: ultravect rejects {rejected.run}",
            soft_wrap=True,
        )
    if found.next:
        upcoming = ", ".join(map(_upcoming, found.next[:5]))
        screen.print(f"[dim]next: {escape(upcoming)}[/]", soft_wrap=True)
