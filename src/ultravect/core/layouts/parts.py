"""Parts of a source's rows, each of which is read on its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Protocol, runtime_checkable

from ultravect.core.layouts.base import Reader


@dataclass(frozen=True)
class Part:
    """``label`` says for a reader which rows it has. What it is depends on the source.

    ``condition``: the rows of a table for which this is true, in the source's SQL. ``files``: whole files of a group. Of a file, what stands
    from ``first`` up to ``last``: bytes, or row groups. ``rows_before``: the rows of the file before the part; ``line``: its first line.
    """

    label: str
    condition: str = ""
    files: tuple[str, ...] = ()
    first: int = 0
    last: int = 0
    rows_before: int = 0
    line: int = 1


@runtime_checkable
class DividesRows(Protocol):
    """A reader whose rows can be read in parts, by several readers at once."""

    @property
    def undivided(self) -> str:
        """Why its rows cannot be divided, "" where they can."""

    def parts(self, count: int) -> Sequence[Part]:
        """At most ``count`` parts of about equal size, in the order of the rows: together they are all rows, and none is in two."""

    def only_part(self, part: Part) -> Reader:
        """A reader of the rows of one part."""


def cuts(sizes: Sequence[int], count: int) -> list[tuple[int, int]]:
    """Divides things of these sizes into at most ``count`` runs of about equal size: where each begins, and ends before."""
    total, seen, ends = sum(sizes), 0, [0]
    for number, size in enumerate(sizes, 1):
        seen += size
        if len(ends) < count and seen * count >= total * len(ends) and number < len(sizes):
            ends.append(number)
    return list(pairwise([*ends, len(sizes)])) if sizes else []
