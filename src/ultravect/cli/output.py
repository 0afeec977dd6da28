"""What commands print: tables for people, JSON for programs."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable, Sequence
from typing import Any, Protocol

from rich.console import Console
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from ultravect.client import Change, Check, Finding, MarkOfLeg, Page, Rehearsal, Run, RunSummary
from ultravect.client.base import plain

_PIPED = not sys.stdout.isatty() and "COLUMNS" not in os.environ
# what goes into a file or another program is neither cut nor wrapped
screen = Console(highlight=False, width=100_000 if _PIPED else None)
errors = Console(stderr=True, highlight=False)

_STATES = {"succeeded": "green", "failed": "red", "stopped": "yellow", "running": "cyan", "queued": "dim"}
_SEVERITIES = {"error": "red", "warning": "yellow", "note": "dim"}
_PARTS = ("inserted", "updated", "unchanged", "repeated", "filtered", "rejected")
_MAX_CELL = 40


def print_json(data: Any) -> None:
    """Any answer of the client as JSON."""

    sys.stdout.write(json.dumps(plain(data), indent=2, ensure_ascii=False) + "\n")


def cell(value: Any, width: int = _MAX_CELL) -> str:
    """A value on one line, cut where it is long; NULL is shown as such."""
    if value is None:
        return "[dim]NULL[/]"
    text = str(value).replace("\r\n", "⏎").replace("\n", "⏎").replace("\t", "⇥")
    return escape(text if _PIPED or len(text) <= width else text[: width - 1] + "…")


def _rows(number: int) -> str:
    return f"{number:,} {'row' if number == 1 else 'rows'}"


def print_table(
    columns: Sequence[str], rows: Iterable[Sequence[Any]], right: Sequence[str] = (), *, whole: bool = False
) -> None:
    """Rows whose cells are rich markup already, each on one line: what a terminal has no room for is cut, the widest column first.

    ``whole``: cells go on below, and are not cut. Tables that are longer than a terminal are shown page by page.
    """
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for name in columns:
        table.add_column(
            escape(name),
            justify="right" if name in right else "left",
            no_wrap=name in right,
            overflow="fold" if whole else "ellipsis",
        )
    for row in rows:
        table.add_row(*(row if whole else map(_one_line, row)))
    _print_long(table)


def _one_line(markup: str) -> Text:
    # a column may become narrower than its text, and the text stays on its line
    text = Text.from_markup(markup)
    text.no_wrap, text.overflow = True, "ellipsis"
    return text


def _print_long(table: Table) -> None:
    if _PIPED:
        with screen.capture() as captured:
            screen.print(table)
        # the widest cell of a column would fill all others with blanks
        sys.stdout.write("".join(f"{line.rstrip()}\n" for line in captured.get().splitlines()))
    elif sys.stdin.isatty() and sys.stdout.isatty() and table.row_count > screen.height:
        os.environ.setdefault("LESS", "-FRX")
        with screen.pager(styles=True):
            screen.print(table)
    else:
        screen.print(table)


def print_rows(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """Rows of data: side by side where they fit into the terminal, otherwise a line a column."""
    cells = [[cell(value) for value in row] for row in rows]
    widths = [
        max([len(name), *(len(Text.from_markup(row[index]).plain) for row in cells)])
        for index, name in enumerate(columns)
    ]
    if sum(widths) + 2 * len(widths) <= screen.width or not rows:
        print_table(columns, cells)
        return
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("column", style="bold", no_wrap=True, min_width=max(map(len, columns)))
    shown = max(1, min(len(rows), (screen.width - max(map(len, columns))) // 22))
    for number in range(1, shown + 1):
        table.add_column(f"row {number}", overflow="ellipsis")
    for index, name in enumerate(columns):
        table.add_row(escape(name), *(_one_line(row[index]) for row in cells[:shown]))
    screen.print(table)
    if shown < len(rows):
        screen.print(f"[dim]{len(rows) - shown} more rows: use a wider terminal, or --json[/]")


def state(name: str) -> str:
    return f"[{_STATES.get(name, 'default')}]{name}[/]"


def size(count: int | None) -> str:
    """Bytes in a unit that reads well."""
    if count is None:
        return ""
    value = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000 or unit == "GB":
            return f"{value:.0f} {unit}" if unit == "B" or value >= 100 else f"{value:.1f} {unit}"
        value /= 1000
    return ""


def tally_line(tally: dict[str, int]) -> str:
    """``read 4,000 = inserted 3,998 + rejected 2``"""
    parts = [f"{name} {tally[name]:,}" for name in _PARTS if tally.get(name)] or ["inserted 0"]
    return f"read {tally['read']:,} = {' + '.join(parts)}"


def seconds(run: RunSummary | Run) -> str:
    if run.started_at is None or run.ended_at is None:
        return ""
    return f"{(run.ended_at - run.started_at).total_seconds():.1f} s"


def print_problem(detail: str, hint: str = "") -> None:
    errors.print(f"[red]error[/]: {escape(detail)}", soft_wrap=True)
    if hint:
        errors.print(f"  fix: {escape(hint)}", soft_wrap=True)


class LinesEdit(Protocol):
    """An edit of a file's lines, as the service gives it or the core finds it."""

    @property
    def line(self) -> int: ...

    @property
    def old(self) -> Sequence[str]: ...

    @property
    def new(self) -> Sequence[str]: ...


def print_edit(edit: LinesEdit, where: Console) -> None:
    for mark, colour, lines in (("-", "red", edit.old), ("+", "green", edit.new)):
        for line in lines:
            where.print(f"  {edit.line:>5} [{colour}]{mark} {escape(line)}[/]", soft_wrap=True)


def print_findings(findings: Sequence[Finding], *, notes: bool = True) -> None:
    for finding in findings:
        if finding.severity == "note" and not notes:
            continue
        place = f" ({finding.place})" if finding.place else ""
        colour = _SEVERITIES[finding.severity]
        screen.print(
            f"[{colour}]{finding.severity}[/] {finding.code}{escape(place)}: {escape(finding.message)}",
            soft_wrap=True,
        )
        if finding.fix:
            screen.print(f"  fix: {escape(finding.fix)}", soft_wrap=True)
        if finding.edit:
            print_edit(finding.edit, screen)


def print_check(check: Check) -> None:
    print_findings(check.findings)
    if check.columns:
        screen.print()
        rows = [
            (
                cell(column["source"]),
                cell(column["name"]),
                cell(column["type"]),
                cell(column["native"]),
                escape(column["evidence"]),
            )
            for column in check.columns
        ]
        evident = any(column["evidence"] for column in check.columns)
        headings = ["column", "target name", "type", "in the target", "evidence"]
        print_table(headings if evident else headings[:-1], rows if evident else [row[:-1] for row in rows])
    if check.source_sql:
        screen.print("\na run would ask the source:\n")
        screen.print(escape(check.source_sql), soft_wrap=True)
    if check.ddl:
        screen.print("\na run would create or change the target by:\n")
        screen.print(escape(check.ddl), soft_wrap=True)
    if check.target_sql:
        screen.print("\nbeside loading rows, a run would do in the target what these statements do:\n")
        screen.print(escape(";\n".join(check.target_sql)), soft_wrap=True)
    if check.effect:
        screen.print(f"\na run now {escape(check.effect)}", soft_wrap=True)
    if check.strategy and check.passed:
        screen.print(f"strategy {check.strategy['name']}: {escape(check.strategy['summary'])}", soft_wrap=True)
        for name, why in check.strategy["why_not"].items():
            screen.print(f"  not {name}: {escape(why)}", soft_wrap=True)
    counts = {
        kind: sum(1 for finding in check.findings if finding.severity == kind)
        for kind in ("error", "warning", "note")
    }
    shown = ", ".join(f"{count} {kind}{'' if count == 1 else 's'}" for kind, count in counts.items() if count)
    verdict = "[green]passed[/]" if check.passed else "[red]not passed[/]"
    screen.print(f"\ncheck {verdict}: {shown or 'nothing to say'}; {_rows(check.rows_tried)} tried, nothing moved")


def print_rehearsal(rehearsal: Rehearsal) -> None:
    """What each step would do, and the first rows before and after, a line a column."""
    print_findings(rehearsal.findings)
    if rehearsal.steps:
        screen.print()
        steps = [
            (step.step, f"{step.rows_in:,}", f"{step.rows_out:,}", f"{step.rejected:,}") for step in rehearsal.steps
        ]
        print_table(["step", "rows in", "rows out", "rejected"], steps, right=["rows in", "rows out", "rejected"])
    for rehearsed in rehearsal.rows[:3]:
        screen.print(f"\nrow {rehearsed.row:,}")
        before = dict(zip(rehearsal.source_columns, rehearsed.before, strict=True))
        lines: list[tuple[str, ...]] = []
        for made, value in zip(rehearsal.target_columns, rehearsed.after, strict=True):
            was = cell(before[made["source"]]) if made["source"] in before else "[dim]computed[/]"
            lines.append(
                (escape(made["source"]), was, "→", escape(made["name"]), cell(value), escape(made["native"]))
            )
        print_table(["column", "before", "", "target name", "after", "in the target"], lines)
    for reject in rehearsal.rejects[:5]:
        column = f", column {reject['column']}" if reject["column"] else ""
        value = f" {reject['value']!r}:" if reject["value"] is not None else ""
        screen.print(escape(f"\nreject: row {reject['row']:,}{column}:{value} {reject['reason']}"), soft_wrap=True)
    tried = rehearsal.steps[0].rows_in if rehearsal.steps else 0
    shown = f"{'all' if rehearsal.complete else 'the first'} {_rows(tried)} tried, nothing written"
    verdict = "[green]passed[/]" if rehearsal.passed else "[red]not passed[/]"
    screen.print(
        f"\nrehearsal {verdict}: {shown}" + (f"; {escape(rehearsal.would_fail)}" if rehearsal.would_fail else "")
    )


def print_changes(run: Run, changes: Page[Change]) -> None:
    """Rows before and after, a line a column; of those that are there before and after, only what differs and the keys."""
    if not changes.items:
        tally = next((leg.tally for leg in run.legs if leg.tally), None) or {}
        some = tally.get("updated") or tally.get("repeated")
        screen.print(f"run {run.id} kept no changed rows" + ("; the job says into.samples: 0" if some else ""))
        return
    for change in changes.items:
        before, after = (
            dict(zip(change.columns, side or [], strict=False)) for side in (change.before, change.after)
        )
        both = change.before is not None and change.after is not None
        same = [name for name in after if both and before.get(name) == after[name]]
        shown = ", ".join(f"{escape(name)} {cell(after[name])}" for name in same[:4])
        heads = {"repeated": ("dropped", "kept")}.get(change.kind, ("before", "after"))
        screen.print(f"\n[bold]{change.kind}[/]{f'  [dim]{shown}[/]' if shown else ''}")
        lines = [
            (
                escape(name),
                cell(before[name]) if name in before else "",
                "→",
                cell(after[name]) if name in after else "",
            )
            for name in (after or before)
            if name not in same
        ]
        if lines:
            print_table(["column", heads[0], "", heads[1]], lines)
        else:
            screen.print("  [dim]alike in every column[/]")
    if changes.total > len(changes.items):
        screen.print(f"\n[dim]{len(changes.items)} of {changes.total:,} that are kept; raise --limit[/]")


def mark_line(mark: MarkOfLeg) -> str:
    """``new since 2026-07-13 03:39:00: changed_at up to 2026-07-14 02:11:09``"""
    line = f"only what is new, {mark.summary}"
    if mark.column:
        line += f"; the mark of {mark.column} is {mark.after} now"
    elif mark.files:
        line += f"; {mark.files:,} more now"
    return line
