"""What a notebook shows of runs and answers: tables, and a run while it happens."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ultravect.client.models import Event, Run

_SHOWN = 50
_PARTS = ("inserted", "updated", "unchanged", "repeated", "filtered", "rejected")


def _table(columns: Sequence[str], rows: Sequence[Sequence[Any]], foot: str) -> str:
    head = "".join(f"<th>{escape(str(name))}</th>" for name in columns)
    body = "".join(
        "<tr>" + "".join(f"<td>{escape('' if value is None else str(value))}</td>" for value in row) + "</tr>"
        for row in rows
    )
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table><p>{escape(foot)}</p>"


def html_of_items(items: Sequence[dict[str, Any]], total: int) -> str:
    names = list(dict.fromkeys(name for item in items for name in item))
    rows = [[item.get(name) for name in names] for item in items[:_SHOWN]]
    return _table(names, rows, f"{len(rows):,} of {total:,}")


def html_of_rows(columns: Sequence[str], rows: Sequence[Sequence[Any]], more: bool) -> str:
    return _table(
        columns, rows[:_SHOWN], f"{min(len(rows), _SHOWN):,} of {len(rows):,}{' and more' if more else ''} rows"
    )


def html_of_run(run: Run) -> str:
    """State, tally and error of a run."""
    lines = [f"<b>run {run.id} of {escape(run.job)}</b>: {escape(str(run.state))}"]
    for leg in run.legs:
        if leg.tally:
            parts = (
                " + ".join(f"{name} {leg.tally[name]:,}" for name in _PARTS if leg.tally.get(name)) or "inserted 0"
            )
            lines.append(f"{escape(leg.source)} → {escape(leg.target)}: read {leg.tally['read']:,} = {parts}")
    if run.error:
        lines.append(f"{escape(str(run.error.get('detail', '')))}<br>{escape(str(run.error.get('hint', '')))}")
    return "<br>".join(lines)


class Picture:
    """A run while it happens, drawn into one place of a notebook; elsewhere printed line by line."""

    def __init__(self, number: int) -> None:
        self._number = number
        self._said: list[str] = []
        self._phase, self._read, self._share = "queued", 0, 0.0
        self._handle: Any = None
        self._notebook = _notebook()

    def take(self, event: Event) -> None:
        if event.kind == "phase":
            self._phase = str(event.data["name"])
        elif event.kind == "progress":
            self._read = int(event.data.get("rows_read") or 0)
            total = event.data.get("bytes_total") or 0
            self._share = min(1.0, (event.data.get("bytes_read") or 0) / total) if total else 0.0
        elif event.kind == "log":
            self._said.append(str(event.data["text"]))
            if self._notebook is None:
                print(f"  {event.data['text']}")
        if self._notebook is not None:
            self._draw(self.html())

    def html(self) -> str:
        last = escape(self._said[-1]) if self._said else ""
        bar = f"<progress value='{self._share:.3f}' max='1'></progress>"
        return f"<b>run {self._number}</b>: {escape(self._phase)} {bar} {self._read:,} rows read<br>{last}"

    def end(self, run: Run) -> None:
        if self._notebook is not None:
            self._draw(html_of_run(run))
        else:
            print(f"run {run.id} of {run.job} {run.state}")

    def _draw(self, html: str) -> None:
        shown = self._notebook.HTML(html)
        if self._handle is None:
            self._handle = self._notebook.display(shown, display_id=True)
        else:
            self._handle.update(shown)


def _notebook() -> Any:
    """The module that draws in notebooks, None where this is none."""
    try:
        import IPython.display
        from IPython import get_ipython
    except ImportError:
        return None
    return IPython.display if get_ipython() is not None else None
