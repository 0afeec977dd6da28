"""Runs: `run`, `rerun`, `runs`, `show`, `stop`, and what comes of one: `rejects`, `retry-rejects`, `changes`, `undo`."""

from __future__ import annotations

import json
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli import completion
from ultravect.cli.follow import follow
from ultravect.cli.legs import has_many, print_run_or_legs, print_statements
from ultravect.cli.login import connect
from ultravect.cli.options import JobName, Json, RunNumber
from ultravect.cli.output import (
    print_json,
    print_table,
    screen,
    seconds,
    state,
    tally_line,
)
from ultravect.client import Client, Run, RunSummary

_SHOWN_REJECTS = 5
Detach = Annotated[bool, typer.Option("--detach", help="Do not wait for the end.")]
# a bad end, by what it has left in the target: a script must not run the job again for rows that are there
_EXITS = {"nothing": 1, "committed": 4, "unknown": 5}
Number = RunNumber


def see_through(client: Client, started: Run, detach: bool, as_json: bool) -> None:
    """Follows a run to its end and prints how it ended; a bad end ends the command."""
    if detach:
        if as_json:
            print_json(started)
        else:
            screen.print(f"run {started.id} of {started.job} is queued; see it: ultravect show {started.id}")
        return
    try:
        ended = client.wait(started.id) if as_json else follow(client, started.id)
    except KeyboardInterrupt:
        screen.print(f"run {started.id} goes on; stop it: ultravect stop {started.id}")
        raise typer.Exit(1) from None
    if as_json:
        print_json(ended)
    else:
        print_run_or_legs(ended)
        if any(leg.rejected for leg in ended.legs):
            screen.print(f"  the rejected rows: ultravect rejects {ended.id}")
        if client.changes(ended.id, page_size=1).total:
            screen.print(f"  rows before and after: ultravect changes {ended.id}")
    if ended.state != "succeeded":
        raise typer.Exit(_EXITS[ended.outcome])


def run(
    name: JobName,
    values: Annotated[
        list[str] | None, typer.Option("--with", metavar="NAME=VALUE", help="Another value for a parameter.")
    ] = None,
    only: Annotated[
        list[str] | None, typer.Option("--only", metavar="OBJECT", help="Only this object, of a job with many.")
    ] = None,
    again: Annotated[
        str,
        typer.Option(
            metavar="FROM..TO", help="Of a job that copies what is new: copy this range anew, and leave the mark."
        ),
    ] = "",
    days: Annotated[
        str,
        typer.Option(
            "--for",
            metavar="FROM..TO",
            help="One run for each past time of its schedules on these days, the oldest first.",
        ),
    ] = "",
    detach: Detach = False,
    as_json: Json = False,
) -> None:
    """Run a job, and follow it to its end."""
    if days:
        _fill(name, days, as_json)
        return
    parameters = {}
    for item in values or []:
        key, mark, value = item.partition("=")
        if not (key and mark):
            raise typer.BadParameter(f"--with is written NAME=VALUE, not {item!r}")
        parameters[key] = value
    first, mark, last = again.partition("..")
    if again and not (first and mark and last):
        raise typer.BadParameter(f"--again is written FROM..TO, such as 2026-07-01..2026-07-05, not {again!r}")
    span = (first.strip(), last.strip()) if again else None
    with connect() as client:
        started = client.run(name, parameters=parameters, only=only or (), again=span)
        see_through(client, started, detach, as_json)


def _fill(name: str, days: str, as_json: bool) -> None:
    first, mark, last = days.partition("..")
    if not (first and (last or not mark)):
        raise typer.BadParameter(f"--for is written FROM..TO, such as 2026-06-01..2026-06-30, not {days!r}")
    with connect() as client:
        started = client.fill(name, first.strip(), (last or first).strip())
    if as_json:
        print_json(started)
        return
    ids = f"run {started[0].id} is" if len(started) == 1 else f"runs {started[0].id} to {started[-1].id} are"
    screen.print(
        f"{ids} queued, one for each time of the schedule; see them: ultravect runs --job {name}", soft_wrap=True
    )


def rerun(number: Number, detach: Detach = False, as_json: Json = False) -> None:
    """Run a run's job again, as it is now, with the parameters of that run; of many legs, those that did not succeed."""
    with connect() as client:
        earlier = client.show(number)
        left = [leg.object for leg in earlier.legs if leg.object and leg.state != "succeeded"]
        if left:
            screen.print(
                f"copying {len(left)} of {len(earlier.legs)} objects: those that did not succeed", soft_wrap=True
            )
        see_through(client, client.run(earlier.job, parameters=earlier.parameters, only=left), detach, as_json)


def retry_rejects(number: Number, detach: Detach = False, as_json: Json = False) -> None:
    """Load the rows that a run rejected, read again from their files or table, by the job as it is now."""
    with connect() as client:
        see_through(client, client.retry_rejects(number), detach, as_json)


def undo(number: Number, detach: Detach = False, as_json: Json = False) -> None:
    """Take back what a run loaded, where its receipt and the job allow it."""
    with connect() as client:
        see_through(client, client.undo(number), detach, as_json)


def _left(run: RunSummary) -> str:
    """What a run that did not succeed has left in its target, where that is not nothing."""
    bad = run.ended and run.state != "succeeded" and run.outcome != "nothing"
    return f" [yellow]({run.outcome})[/]" if bad else ""


def _what_happened(run: RunSummary) -> str:
    if run.error:
        return escape(run.error.get("detail", "")[:70])
    if run.kind == "undo":
        return f"undo of run {run.origin}"
    shown = tally_line(run.tally) if run.tally else ""
    if run.kind == "repair":
        return f"repair: {shown}"
    return f"rejects of run {run.origin}: {shown}" if run.kind == "rejects" else shown


def runs(
    job: Annotated[str, typer.Option(help="Only runs of this job.")] = "",
    state_: Annotated[str, typer.Option("--state", help="Only runs in this state.")] = "",
    as_json: Json = False,
) -> None:
    """List runs, the newest first."""
    with connect() as client:
        found = client.runs(job=job, state=state_)
    if as_json:
        print_json(found)
        return
    if not found.items:
        screen.print("no runs")
        return
    rows = [
        (
            str(item.id),
            item.job,
            state(item.state) + _left(item),
            f"{item.queued_at.astimezone():%Y-%m-%d %H:%M:%S}",
            seconds(item),
            _what_happened(item),
        )
        for item in found.items
    ]
    print_table(["run", "job", "state", "queued", "took", "what happened"], rows, right=["run", "took"])
    if found.pages > 1:
        screen.print(f"[dim]{len(found.items)} of {found.total:,}; narrow it with --job or --state[/]")


def show(
    number: Number,
    file: Annotated[bool, typer.Option("--file", help="Show the job file as it was run.")] = False,
    plan: Annotated[bool, typer.Option("--plan", help="Show the plan that it follows, as JSON.")] = False,
    leg: Annotated[int | None, typer.Option("--leg", min=1, help="Only this leg, of a run with many.")] = None,
    statements: Annotated[
        bool, typer.Option("--statements", help="Show what it ran in databases, the longest first.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Show a run: phases, tally, what was said, error."""
    with connect() as client:
        if plan:
            print_json(client.plan(number, leg or 1))
            return
        found = client.show(number)
        if leg is not None:
            found.legs = [item for item in found.legs if item.number == leg]
            if not found.legs:
                raise typer.BadParameter(f"run {number} has no leg {leg}")
        events = [] if as_json else client.events(number)
        rejects = client.rejects(number, leg=leg, page_size=_SHOWN_REJECTS) if not as_json else None
    if as_json:
        print_json(found)
        return
    if statements:
        print_statements(found)
        return
    print_run_or_legs(found, whole=leg is not None)
    for item in found.legs if leg is not None or not has_many(found) else []:
        marks = {"done": "✓", "running": "▸", "waiting": "·", "failed": "✗", "stopped": "■", "cut off": "–"}
        screen.print("  " + "  ".join(f"{marks[phase['state']]} {phase['name']}" for phase in item.phases))
    named = {} if leg is not None else {item.number: item.object for item in found.legs if item.object}
    for event in events:
        if event.kind in ("log", "finding") and (leg is None or event.leg == leg):
            about = f"{named[event.leg]}: " if event.leg in named else ""
            text = about + (event.data.get("text") or event.data["message"])
            level = event.data.get("level") or event.data["severity"]
            screen.print(f"  [dim]{event.at.astimezone():%H:%M:%S}[/] {level}: {escape(text)}", soft_wrap=True)
    if rejects and rejects.items:
        screen.print(f"  rejects ({rejects.total:,} kept):")
        for reject in rejects.items:
            value = "" if reject.value is None else f" {reject.value!r}"
            screen.print(
                f"    {escape(reject.place)} {escape(reject.column or '')}{escape(value)}: {escape(reject.reason)}",
                soft_wrap=True,
            )
    if file:
        screen.print(f"\n{escape(found.file.rstrip())}", soft_wrap=True)


def logs(
    what: Annotated[
        str,
        typer.Argument(metavar="RUN|JOB", help="A run; or a job, for its last run.", autocompletion=completion.jobs),
    ],
    following: Annotated[bool, typer.Option("--follow", "-f", help="Go on until the run has ended.")] = False,
    level: Annotated[str, typer.Option(help="Only lines of this level, such as warning.")] = "",
    search: Annotated[str, typer.Option(help="Only lines with this text.")] = "",
    as_json: Json = False,
) -> None:
    """Print what a run said, line by line."""
    with connect() as client:
        number = int(what) if what.isdigit() else 0
        if not number:
            found = client.runs(job=client.job(what).name, page_size=1)
            if not found.items:
                raise typer.BadParameter(f"job {what} was not run yet")
            number = found.items[0].id
        run = client.show(number)
        named = {leg.number: leg.object for leg in run.legs if leg.object}
        for event in client.follow(number) if following else client.events(number):
            if event.kind not in ("log", "finding"):
                continue
            text = str(event.data.get("text") or event.data.get("message") or "")
            its = str(event.data.get("level") or event.data.get("severity") or "")
            about = f"{named[event.leg]}: " if event.leg in named else ""
            if (level and its != level) or search.lower() not in f"{about}{text}".lower():
                continue
            if as_json:
                print(
                    json.dumps(
                        {"at": event.at.isoformat(), "leg": event.leg, "level": its, "text": text}, ensure_ascii=False
                    ),
                    flush=True,
                )
            else:
                when = event.at.astimezone().strftime("%H:%M:%S")
                screen.print(f"[dim]{when}[/] {its:<7} {escape(about + text)}", soft_wrap=True)


def stop(
    number: Number,
    leg: Annotated[int | None, typer.Option("--leg", min=1, help="Only this leg; the others go on.")] = None,
    as_json: Json = False,
) -> None:
    """Stop a run, or one leg of it; what it has not published is rolled back."""
    with connect() as client:
        client.stop(number, leg)
        ended = client.wait(number) if leg is None else client.show(number)
    if as_json:
        print_json(ended)
    elif leg is not None:
        screen.print(f"leg {leg} of run {number} is being stopped; see it: ultravect show {number} --leg {leg}")
    else:
        print_run_or_legs(ended)
