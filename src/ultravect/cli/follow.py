"""Shows a run while it happens."""

from __future__ import annotations

from typing import Any

from rich.live import Live
from rich.markup import escape
from rich.text import Text

from ultravect.cli.output import screen, size
from ultravect.client import Client, Run

_MARKS = {"running": "▸", "done": "✓"}


class _Picture:
    """The phases and figures of a run on two lines."""

    def __init__(self) -> None:
        self.phases: dict[str, str] = {}
        self.figures: dict[str, Any] = {}

    def figures_line(self) -> str:
        figures = self.figures
        if scanned := figures.get("rows_scanned"):
            return f"{scanned:,} rows scanned for their types, {size(figures['bytes_scanned'])}"
        if not figures:
            return "waiting for the first row"
        total = f" of {size(figures['bytes_total'])}" if figures.get("bytes_total") else ""
        read = f"{figures['rows_read']:,} rows read, {size(figures['bytes_read'])}{total}"
        return f"{read}, {figures.get('rows_per_second', 0):,} rows/s, {figures['rows_staged']:,} staged"

    def text(self) -> Text:
        phases = "  ".join(f"{_MARKS[state]} {name}" for name, state in self.phases.items())
        return Text(f"{phases or 'queued'}\n{self.figures_line()}")


def follow(client: Client, number: int) -> Run:
    """Follows a run to its end: a live picture in a terminal, a line a step elsewhere."""
    picture = _Picture()
    with Live(picture.text(), console=screen, transient=True, auto_refresh=False, screen=False) as live:
        for event in client.follow(number):
            match event.kind:
                case "phase":
                    picture.phases[event.data["name"]] = event.data["state"]
                    if not screen.is_terminal and event.data["state"] == "running":
                        screen.print(f"  {event.data['name']} …")
                case "progress":
                    picture.figures = event.data
                    if not screen.is_terminal:
                        screen.print(f"    {picture.figures_line()}")
                case "finding" if event.data["severity"] != "note":
                    screen.print(f"  {event.data['severity']}: {escape(event.data['message'])}", soft_wrap=True)
                case "log":
                    screen.print(f"  {escape(event.data['text'])}", soft_wrap=True)
            if screen.is_terminal:
                live.update(picture.text(), refresh=True)
    return client.show(number)
