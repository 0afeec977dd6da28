"""Shows a run while it happens."""

from __future__ import annotations

import time
from typing import Any

from rich.console import Group, RenderableType
from rich.live import Live
from rich.markup import escape
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from ultravect.cli.legs import counts_line
from ultravect.cli.output import screen, size
from ultravect.client import Client, Event, Run

_MARKS = {"running": "▸", "done": "✓"}
_ENDED = ("succeeded", "failed", "stopped")
_BAR = 40
_SURE_SECONDS = 2.0
"""Before that, how long it goes on would be guessed."""


class _Picture:
    """The phases and figures of a run on two lines."""

    def __init__(self) -> None:
        self.phases: dict[str, str] = {}
        self.figures: dict[str, Any] = {}
        self.legs: dict[int, str] = {}
        self.names: dict[int, str] = {}
        self.count = 0
        self._began = time.monotonic()

    def about(self, event: Event) -> str:
        """Which of many legs an event is of."""
        name = self.names.get(event.leg or 0, "")
        return f"{escape(name)}: " if name else ""

    def legs_line(self) -> str:
        """How many legs are where, and which are copied now."""
        states = [*self.legs.values(), *["queued"] * (self.count - len(self.legs))]
        return counts_line(states)

    def figures_line(self) -> str:
        figures = self.figures
        if scanned := figures.get("rows_scanned"):
            return f"{scanned:,} rows scanned for their types, {size(figures['bytes_scanned'])}"
        if not figures:
            return "waiting for the first row"
        total = f" of {size(figures['bytes_total'])}" if figures.get("bytes_total") else ""
        read = f"{figures['rows_read']:,} rows read, {size(figures['bytes_read'])}{total}"
        return f"{read}, {figures.get('rows_per_second', 0):,} rows/s, {figures['rows_staged']:,} staged"

    def share(self) -> float:
        """How much is done, from 0 to 1; 0 where that is not known."""
        if self.count:
            return sum(state in _ENDED for state in self.legs.values()) / self.count
        total = self.figures.get("bytes_total") or 0
        return min(1.0, (self.figures.get("bytes_read") or 0) / total) if total else 0.0

    def time_left(self) -> str:
        """``12 s left``; "" as long as it cannot be said."""
        passed, share = time.monotonic() - self._began, self.share()
        if passed < _SURE_SECONDS or not 0 < share < 1:
            return ""
        left = passed * (1 - share) / share
        return f"{left:.0f} s left" if left < 100 else f"{left // 60:.0f} min left"

    def shown(self) -> RenderableType:
        phases = "  ".join(f"{_MARKS[state]} {name}" for name, state in self.phases.items())
        lines: list[RenderableType] = [Text(self.legs_line() if self.count else phases or "queued")]
        if share := self.share():
            bar = Table.grid(padding=(0, 1))
            bar.add_row(ProgressBar(completed=share, total=1, width=_BAR), f"{share:.0%}", self.time_left())
            lines.append(bar)
        if not self.count:
            lines.append(Text(self.figures_line()))
        return Group(*lines)


def _take_leg(picture: _Picture, event: Event) -> None:
    picture.count = max(picture.count, 1)
    picture.legs[event.leg or 0] = event.data["state"]
    picture.names[event.leg or 0] = event.data["object"]
    if event.data["state"] in ("succeeded", "failed", "stopped"):
        error = event.data.get("error")
        why = f": {escape(error['detail'])}" if error else ""
        screen.print(f"  {escape(event.data['object'])} {event.data['state']}{why}", soft_wrap=True)


def follow(client: Client, number: int) -> Run:
    """Follows a run to its end: a live picture in a terminal, a line a step elsewhere."""
    picture = _Picture()
    with Live(picture.shown(), console=screen, transient=True, auto_refresh=False, screen=False) as live:
        for event in client.follow(number):
            match event.kind:
                case "legs":
                    picture.count = event.data["count"]
                case "leg":
                    _take_leg(picture, event)
                case "phase" | "progress" if picture.count:
                    pass  # of many legs, where each is counts
                case "phase":
                    picture.phases[event.data["name"]] = event.data["state"]
                    if not screen.is_terminal and event.data["state"] == "running":
                        screen.print(f"  {event.data['name']} …")
                case "progress":
                    picture.figures = event.data
                    if not screen.is_terminal:
                        screen.print(f"    {picture.figures_line()}")
                case "finding" if event.data["severity"] != "note":
                    shown = f"{picture.about(event)}{escape(event.data['message'])}"
                    screen.print(f"  {event.data['severity']}: {shown}", soft_wrap=True)
                case "log":
                    screen.print(f"  {picture.about(event)}{escape(event.data['text'])}", soft_wrap=True)
            if screen.is_terminal:
                live.update(picture.shown(), refresh=True)
    return client.show(number)
