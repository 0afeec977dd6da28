"""A run, its legs and its slices, for a terminal."""

from __future__ import annotations

from rich.markup import escape

from ultravect.cli.output import mark_line, screen, seconds, state, tally_line
from ultravect.client import Leg, Run, Slice

_COMPARED = ("added", "gone", "changed", "equal")
_SHOWN_SLICES = 16
_TRIGGERS = {"schedule": "started by its schedule,", "after": "started after other jobs,", "fill": "made up"}


def print_slices(slices: list[Slice]) -> None:
    """What each slice of a leg has copied, and where; where there are many, only those that did not succeed."""
    done = [item for item in slices if item.state == "succeeded"]
    workers = {item.worker for item in done}
    screen.print(
        f"  {len(done)} of {len(slices)} slices staged, by {len(workers)} worker{'' if len(workers) == 1 else 's'}"
    )
    shown = slices if len(slices) <= _SHOWN_SLICES else [item for item in slices if item.state != "succeeded"]
    for item in shown[:_SHOWN_SLICES]:
        attempts = f", attempt {item.attempts}" if item.attempts > 1 else ""
        rows = f"{item.progress.get('rows_read') or 0:,} rows"
        screen.print(
            f"    {item.number:>3}  {item.state:<10} {rows:>16}  {escape(item.label)}{attempts}", soft_wrap=True
        )


def print_leg(leg: Leg, kind: str = "load") -> None:
    created = "   (table created)" if leg.created_target and leg.tally else ""
    source = "" if kind == "undo" else f"{escape(leg.source)} → "
    screen.print(f"  {source}{escape(leg.target)}{created}", soft_wrap=True)
    if leg.tally and kind != "undo":  # which reads no rows
        screen.print(f"  {tally_line(leg.tally)}")
    elif leg.rejected:
        screen.print(f"  rejected {leg.rejected:,}")
    if leg.gone:
        screen.print(f"  gone from the source: {leg.gone:,}")
    if leg.mark:
        screen.print(f"  {escape(mark_line(leg.mark))}", soft_wrap=True)
    if leg.comparison:
        parts = [f"{leg.comparison[name]:,} {name}" for name in _COMPARED]
        screen.print(f"  by key, against the rows before: {', '.join(parts)}")
    for guard in leg.guards or ():
        mark = "[yellow]✗[/]" if guard.passed is False else "[green]✓[/]" if guard.passed else "·"
        screen.print(
            escape(f"  guard: {guard.name} is {guard.value}, and has to be {guard.limit} ") + mark, soft_wrap=True
        )
    if leg.checksums:
        count = len(leg.checksums)
        screen.print(f"  checksums of {count} column{'' if count == 1 else 's'}: the target gives back what was sent")
    if leg.slices:
        print_slices(leg.slices)
    if leg.strategy and leg.tally and kind != "undo":
        screen.print(f"  written by the strategy {leg.strategy}")
    about = "about " if leg.rows_about else ""
    if leg.rows_before is not None and leg.rows_after is not None:
        screen.print(f"  rows in the target: {about}{leg.rows_before:,} before, {about}{leg.rows_after:,} after")
    elif leg.rows_after is not None and leg.strategy == "file set":
        screen.print(f"  rows in the files written: {leg.rows_after:,}, counted by reading them again")
    elif leg.rows_after is not None:
        screen.print(f"  rows in the target: {leg.rows_after:,} after")


_OUTCOMES = {
    "committed": "its rows are in the target; running it again may double them",
    "unknown": "whether its rows are in the target is not known yet; the target is asked",
}


def print_run(run: Run) -> None:
    """How a run ended, or how far it is."""
    took = f" in {seconds(run)}" if seconds(run) else ""
    again = f" (attempt {run.attempts})" if run.attempts > 1 else ""
    what = {"rejects": f", the rejects of run {run.origin},", "undo": f", the undo of run {run.origin},"}
    screen.print(f"run {run.id} of {run.job}{what.get(run.kind, '')} {state(run.state)}{took}{again}")
    if run.scheduled_for is not None:
        screen.print(f"  {_TRIGGERS.get(run.trigger, 'run')} for {run.scheduled_for:%Y-%m-%d %H:%M %Z}")
    if run.ended and run.state != "succeeded" and run.outcome != "nothing":
        screen.print(f"  [bold yellow]outcome {run.outcome}[/]: {_OUTCOMES[run.outcome]}")
    for leg in run.legs:
        print_leg(leg, run.kind)
    for other in run.followed_by:
        does = "undoes it" if other.kind == "undo" else "loads its rejects"
        screen.print(f"  run {other.id} {does}: {state(other.state)}")
    if run.error:
        screen.print(f"  [red]{escape(run.error['code'])}[/]: {escape(run.error['detail'])}", soft_wrap=True)
        if run.error.get("hint"):
            screen.print(f"  fix: {escape(run.error['hint'])}", soft_wrap=True)
