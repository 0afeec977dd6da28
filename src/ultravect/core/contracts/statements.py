"""Which statements a piece of work ran in databases, how long they took, and how many rows they gave or changed."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from typing import Any

# names that are quoted stay, texts in quotes or dollars do not
_QUOTED = re.compile(
    r"""(?P<name>"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]'"`]*\])|'(?:[^']|'')*(?:'|$)|\$(?P<tag>\w*)\$.*?(?:\$(?P=tag)\$|$)""",
    re.S,
)
_ANY_QUOTE = re.compile(r"['\"`$]")
_SPACE = re.compile(r"\s+")
_SHOWN = 300
_DIFFERENT = 500
_KEPT = 20


@dataclass
class Ran:
    """Statements of one text, in which values are left out: they may be anyone's."""

    text: str
    count: int = 0
    seconds: float = 0.0
    rows: int = 0


class StatementLog:
    """The statements of this process, as long as ``noting`` lasts. Threads may note at the same time."""

    def __init__(self) -> None:
        self._ran: dict[str, Ran] = {}
        self._lock = threading.Lock()

    def add(self, statement: str, seconds: float, rows: int) -> None:
        text = shown(statement)
        with self._lock:
            if text not in self._ran and len(self._ran) >= _DIFFERENT:
                text = "other statements"
            ran = self._ran.setdefault(text, Ran(text))
            ran.count += 1
            ran.seconds += seconds
            ran.rows += max(rows, 0)

    def longest(self) -> list[dict[str, Any]]:
        """Those that took longest, the longest first."""
        with self._lock:
            found = sorted(self._ran.values(), key=lambda ran: -ran.seconds)[:_KEPT]
        return [asdict(ran) | {"seconds": round(ran.seconds, 4)} for ran in found]


def shown(statement: str) -> str:
    """A statement on one line, with … for each value, and no longer than is read.

    Databases differ in what a backslash means in a text: with one, all from the first quote on is left out.
    """
    text = statement[: 4 * _SHOWN]
    if "\\" in text and (quote := _ANY_QUOTE.search(text)):
        text = f"{text[: quote.start()]}…"
    text = _QUOTED.sub(lambda found: found["name"] or "'…'", text)
    text = _SPACE.sub(" ", text).strip()
    return text if len(text) <= _SHOWN else text[: _SHOWN - 1] + "…"


# one leg runs in a process, in several threads: each of them notes here
_log: StatementLog | None = None


@contextmanager
def noting() -> Iterator[StatementLog]:
    """Has statements be noted from now on."""
    global _log
    before, _log = _log, StatementLog()
    try:
        yield _log
    finally:
        _log = before


class Noted:
    """``rows``: to be set where they are known."""

    rows = 0


@contextmanager
def noted(statement: object) -> Iterator[Noted]:
    """Notes the statement that runs within this, where statements are noted; one that fails, too.

    It is text, bytes in UTF-8, or what a driver composes of parts.
    """
    log = _log
    found = Noted()
    if log is None:
        yield found
        return
    started = time.perf_counter()
    try:
        yield found
    finally:
        if isinstance(statement, bytes | bytearray):
            text = statement[: 4 * _SHOWN].decode("utf-8", "replace")
        else:
            text = str(statement)
        log.add(text, time.perf_counter() - started, found.rows)
