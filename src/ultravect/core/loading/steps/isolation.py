"""Finds the staged rows that a database refuses (constraints, triggers): what fails is halved until single rows are left."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

CHUNK = 1024


class RowsRefused(Exception):
    """The database refuses some row among those given; the text is its reason."""


@dataclass
class Isolated:
    """What became of staged rows; ``refused`` are numbers with reasons."""

    updated: int = 0
    inserted: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)


def isolate(rows: int, attempt: Callable[[int, int], tuple[int, int]], tolerated: int) -> Isolated:
    """Writes the rows from 0 to ``rows`` in chunks.

    ``attempt`` writes the rows from its first number to before its last, all or none, and gives how many it updated and
    inserted; RowsRefused when the database refuses. Ends as soon as more than ``tolerated`` rows are refused.
    """
    done = Isolated()
    spans = [(start, min(start + CHUNK, rows)) for start in range(0, rows, CHUNK)][::-1]
    while spans:
        first, last = spans.pop()
        try:
            updated, inserted = attempt(first, last)
        except RowsRefused as error:
            if last - first > 1:
                middle = (first + last) // 2
                spans += [(middle, last), (first, middle)]
                continue
            done.refused.append((first, str(error)))
            if len(done.refused) > tolerated:
                return done
        else:
            done.updated += updated
            done.inserted += inserted
    return done
