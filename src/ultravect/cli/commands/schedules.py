"""`ultravect schedule …`: when jobs are run by themselves."""

from __future__ import annotations

import datetime as dt
from typing import Annotated
from zoneinfo import ZoneInfo

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import print_json, print_table, screen, state
from ultravect.client import Schedule

app = typer.Typer(help="Schedules: when jobs are run by themselves.", no_args_is_help=True)


def _local(moment: str | dt.datetime, zone: str) -> str:
    found = moment if isinstance(moment, dt.datetime) else dt.datetime.fromisoformat(moment)
    return found.astimezone(ZoneInfo(zone)).strftime("%a %Y-%m-%d %H:%M")


def _print(found: list[Schedule]) -> None:
    print_table(
        ["job", "schedule", "next", "last run", "note"],
        [
            (
                escape(item.job),
                escape(f"{item.cron} {item.timezone}{', for new files' if item.only_if else ''}"),
                "[yellow]paused[/]" if item.paused else _local(item.next[0], item.timezone),
                f"{state(item.last_run.state)} {item.last_run.id}" if item.last_run else "[dim]none yet[/]",
                escape(_note(item)),
            )
            for item in found
        ],
        whole=True,
    )


def _note(item: Schedule) -> str:
    if item.paused:
        return f"by {item.paused.by}: {item.paused.why}"
    if item.left_out and item.last_for:
        return f"{_local(item.last_for, item.timezone)} was left out: {item.left_out}"
    return ""


@app.command("list")
def list_schedules(
    job: Annotated[str, typer.Option("--job", help="Those of one job.")] = "", as_json: Json = False
) -> None:
    """List schedules, those that come next first; times are those of the schedule's zone."""
    with connect() as client:
        found = client.schedules(job=job)
    if as_json:
        print_json(found)
    elif not found:
        screen.print("no job is run by itself yet; in a job file: run: {schedule: {cron: 15 2 * * *}}")
    else:
        _print(found)


@app.command("pause")
def pause(
    job: Annotated[str, typer.Argument(metavar="JOB")],
    why: Annotated[str, typer.Option("--why", help="For those who wonder.")],
) -> None:
    """Stop a job from being run by its schedules, until someone resumes them."""
    with connect() as client:
        client.pause_schedules(job, why)
    screen.print(f"the schedules of {job} are paused; resume them: ultravect schedule resume {job}", soft_wrap=True)


@app.command("resume")
def resume(job: Annotated[str, typer.Argument(metavar="JOB")]) -> None:
    """Let a job be run by its schedules again; times that came meanwhile are not made up for."""
    with connect() as client:
        found = client.resume_schedules(job)
    nearest = min(found, key=lambda item: item.next[0])
    screen.print(
        f"{job} is run next on {_local(nearest.next[0], nearest.timezone)} ({nearest.timezone})", soft_wrap=True
    )


@app.command("next")
def next_(
    what: Annotated[str, typer.Argument(metavar="JOB|CRON", help="A job, or five fields of cron in quotes.")],
    zone: Annotated[str, typer.Option("--timezone", help="Whose clocks the fields of cron are of.")] = "UTC",
) -> None:
    """Show the next five times of a job's schedules, or of a schedule that is being written."""
    with connect() as client:
        if " " in what.strip():
            for moment in client.next_times(what, zone):
                screen.print(f"{_local(moment, zone)} {zone}")
            return
        found = client.schedules(job=what)
    if not found:
        screen.print(f"{what} has no schedule")
        raise typer.Exit(1)
    for item in found:
        screen.print(f"{item.cron} {item.timezone}" + (" [yellow]paused[/]" if item.paused else ""))
        for upcoming in item.next:
            screen.print(f"  {_local(upcoming, item.timezone)}")
