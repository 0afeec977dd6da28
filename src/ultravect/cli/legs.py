"""What commands print of the legs of a job with many objects: a line each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.markup import escape

from ultravect.cli.output import cell, print_table, screen, state
from ultravect.cli.run_lines import print_run
from ultravect.client import Check, CheckedLeg, Leg, Run

_SHOWN = 40
_ORDER = ("failed", "stopped", "running", "queued", "succeeded")
_WRITTEN = ("inserted", "updated", "unchanged", "rejected")


def has_many(run: Run) -> bool:
    """Whether the run is of a job with many objects."""
    return any(leg.object for leg in run.legs)


def print_run_or_legs(run: Run, *, whole: bool = False) -> None:
    """How a run ended, or how far it is; its many legs in a table, unless they are shown ``whole``."""
    if not has_many(run) or whole:
        print_run(run)
        return
    print_run(run.model_copy(update={"legs": []}))
    print_legs(run)


def print_statements(run: Run) -> None:
    """What each leg ran in databases, the longest first."""
    for leg in run.legs:
        screen.print(f"[bold]{escape(leg.object or leg.source)} → {escape(leg.target)}[/]", soft_wrap=True)
        rows = [
            (f"{item.seconds:.3f}", f"{item.count:,}", f"{item.rows:,}", escape(item.text))
            for item in leg.statements or ()
        ]
        print_table(["seconds", "times", "rows", "statement"], rows, right=["seconds", "times", "rows"], whole=True)


def counts_line(states: Sequence[str]) -> str:
    """``12 legs: 10 succeeded, 2 failed``"""
    found = Counter(states)
    parts = ", ".join(f"{found[name]:,} {name}" for name in reversed(_ORDER) if found[name])
    return f"{len(states):,} {'leg' if len(states) == 1 else 'legs'}: {parts}"


def print_legs(run: Run) -> None:
    """The legs of a run, those that need attention first; what each has written, or why it has not."""
    legs = sorted(run.legs, key=lambda leg: (_ORDER.index(leg.state), leg.number))
    screen.print(f"  {counts_line([leg.state for leg in legs])}")
    if run.kind == "load":
        totals = Counter[str]()
        for leg in legs:
            totals.update(leg.tally or {})
        screen.print(
            f"  read {totals['read']:,}: "
            + ", ".join(f"{totals[name]:,} {name}" for name in _WRITTEN if totals[name])
        )
    rows = [
        (str(leg.number), cell(leg.object), cell(leg.target), state(leg.state), *_figures(leg))
        for leg in legs[:_SHOWN]
    ]
    columns = ["leg", "object", "target", "state", "read", "inserted", "updated", "rejected", "what happened"]
    print_table(columns, rows, right=["leg", "read", "inserted", "updated", "rejected"])
    if len(legs) > _SHOWN:
        screen.print(f"[dim]{_SHOWN} of {len(legs):,} legs; all of them: ultravect show {run.id} --json[/]")


def _figures(leg: Leg) -> tuple[str, str, str, str, str]:
    tally = leg.tally or {}
    figures = [f"{tally[name]:,}" if tally.get(name) else "" for name in ("read", "inserted", "updated")]
    if leg.error:
        happened = escape(f"{leg.error['code']}: {leg.error['detail']}"[:90])
    elif not leg.tally and leg.progress.get("rows_read"):
        happened = f"{leg.progress['rows_read']:,} rows read"
    elif leg.mark and not (leg.tally or {}).get("read"):
        happened = f"nothing new {leg.mark.summary}"
    else:
        happened = "table created" if leg.created_target and leg.tally else ""
    return figures[0], figures[1], figures[2], f"{leg.rejected:,}" if leg.rejected else "", happened


def print_checked_legs(check: Check) -> None:
    """The legs of a checked job, the worst first."""
    rows = [_checked(leg) for leg in check.legs[:_SHOWN]]
    screen.print()
    print_table(
        ["leg", "object", "target", "check", "fit", "columns", "strategy", "problem"], rows, right=["leg", "columns"]
    )
    if len(check.legs) > _SHOWN:
        screen.print(f"[dim]{_SHOWN} of {len(check.legs):,} legs, the worst first; all of them: --json[/]")


def _checked(leg: CheckedLeg) -> tuple[str, ...]:
    minded = [finding for finding in leg.findings if finding.severity != "note"]
    more = f" (+{len(minded) - 1})" if len(minded) > 1 else ""
    problem = escape(f"{minded[0].code}: {minded[0].message}"[:90]) + more if minded else ""
    verdict = "[red]error[/]" if not leg.passed else "[yellow]warning[/]" if minded else "[green]passed[/]"
    target = cell(leg.target) + ("" if leg.target_exists else " [dim](new)[/]")
    return (
        str(leg.number),
        cell(leg.object),
        target,
        verdict,
        leg.fit,
        str(leg.columns),
        leg.strategy["name"] if leg.strategy else "",
        problem,
    )
