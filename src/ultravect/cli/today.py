"""`ultravect today`: what there is to know this morning."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import print_json, screen, state
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
    if not (found.failed or found.late):
        screen.print("[green]✓[/] nothing failed that was not made good, and nothing is late")
    for run in found.under_way:
        screen.print(f"{state(run.state)} {escape(run.job)}, run {run.id}")
    for item in found.rejected:
        screen.print(
            f"[yellow]rejected[/] {item.rows:,} rows of {escape(item.job)}: ultravect rejects {item.run}",
            soft_wrap=True,
        )
    if found.next:
        upcoming = ", ".join(_upcoming(item) for item in found.next[:5])
        screen.print(f"[dim]next: {escape(upcoming)}[/]", soft_wrap=True)
