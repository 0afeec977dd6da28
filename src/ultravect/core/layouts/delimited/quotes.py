"""Distinguishes the quotes that open and close a value from those that merely stand in one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

_NEWLINES = (0x0A, 0x0D)


@dataclass(frozen=True)
class Quotes:
    """Positions of the quotes that count, alternately opening and closing.

    ``stray`` is the position of text after a closing quote, if there is some.
    """

    positions: npt.NDArray[np.int64]
    stray: int | None = None

    def inside(self, places: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
        """Whether each place lies between an opening quote and its closing one; places are sorted."""
        if len(places) < len(self.positions):
            return (np.searchsorted(self.positions, places) & 1).astype(np.bool_)
        # there are fewer quotes than places: it is quicker to look for the quotes among the places
        turns = np.searchsorted(places, self.positions)
        size = len(places) + 1
        turned = np.bincount(turns[0::2], minlength=size) - np.bincount(turns[1::2], minlength=size)
        return np.cumsum(turned[:-1]) > 0

    @property
    def open_at(self) -> int | None:
        """Where the quote opens that is not closed by the end."""
        return int(self.positions[-1]) if len(self.positions) & 1 else None


NO_QUOTES = Quotes(np.empty(0, np.int64))


def find_quotes(data: bytes, quote: int, delimiter: int) -> Quotes:
    """The quotes that count in ``data``, which starts at the start of a row."""
    if quote not in data:
        return NO_QUOTES
    buffer = np.frombuffer(data, np.uint8)
    positions = np.flatnonzero(buffer == np.uint8(quote))
    edges = np.zeros(256, np.bool_)
    edges[[quote, delimiter, *_NEWLINES]] = True
    opening, closing = positions[0::2], positions[1::2]
    if len(opening) and opening[0] == 0:
        opening = opening[1:]
    if len(closing) and closing[-1] == len(data) - 1:
        closing = closing[:-1]
    # A doubled quote closes and opens again: taking it so leaves what is inside as it was.
    if edges.take(buffer.take(opening - 1)).all() and edges.take(buffer.take(closing + 1)).all():
        return Quotes(positions)
    return _one_by_one(data, positions.tolist(), quote, delimiter)


def _one_by_one(data: bytes, positions: list[int], quote: int, delimiter: int) -> Quotes:
    """For text with quotes in odd places, such as 5" in a value without quotes around it."""
    starts = (delimiter, *_NEWLINES)
    kept: list[int] = []
    index = 0
    while index < len(positions):
        at = positions[index]
        index += 1
        if len(kept) & 1 == 0:
            if at == 0 or data[at - 1] in starts:
                kept.append(at)
            continue
        if index < len(positions) and positions[index] == at + 1:
            index += 1
            continue
        kept.append(at)
        if at + 1 < len(data) and data[at + 1] not in starts:
            return Quotes(np.array(kept, np.int64), stray=at + 1)
    return Quotes(np.array(kept, np.int64))
