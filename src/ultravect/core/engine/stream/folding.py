"""Folds the changes of one table to one for each key: what its rows are in the end, and which are gone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.contracts.change_log import Changes, Kind
from ultravect.core.types.arrow import plain_array

Places = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Folded:
    """``values``: those of the changes, with what an earlier change of the same row says of values that are not said again.

    ``written`` and ``removed`` are places in them, in the order of the changes. ``unknown``: the columns, by their places, of which rows in
    ``written`` do not say the value: it is the one that the row had before all of the changes. ``moved``: of those whose key was another one
    then, the place of the change that has it.
    """

    values: pa.Table
    written: Places
    removed: Places
    unknown: Mapping[int, frozenset[int]]
    moved: Mapping[int, int]


def key_numbers(values: pa.Table, keys: Sequence[int]) -> Places:
    """A number for each row, which two rows share if they have the same key; NULL is a value like others."""
    numbers = np.zeros(values.num_rows, np.int64)
    for place in keys:
        column = plain_array(values.column(place))
        codes = (
            column.dictionary_encode(null_encoding="encode").indices.to_numpy(zero_copy_only=False).astype(np.int64)
        )
        _, numbers = np.unique(numbers * (int(codes.max(initial=0)) + 1) + codes, return_inverse=True)
    return numbers


def in_place(changes: Changes, numbers: Places) -> npt.NDArray[np.bool_]:
    """Which changes count: all but those that say what the row had before, of a row whose key stays."""
    former = np.flatnonzero(changes.kinds == Kind.FORMER)
    counts = np.ones(len(changes.kinds), np.bool_)
    stays = former[numbers[former] == numbers[former + 1]]
    counts[stays] = False
    return counts


def fold(changes: Changes, keys: Sequence[int]) -> Folded:
    """Of the rows of each key the last; ``keys`` are the places of its columns."""
    numbers = key_numbers(changes.values, keys)
    counts = np.flatnonzero(in_place(changes, numbers))
    # the first of a reversed array is the last one
    _, last = np.unique(numbers[counts][::-1], return_index=True)
    final = np.sort(counts[::-1][last])
    gone = np.isin(changes.kinds[final], (Kind.DELETE, Kind.FORMER))
    written, removed = final[~gone], final[gone]
    if not changes.unknown:
        return Folded(changes.values, written, removed, {}, {})
    return _with_earlier(changes, numbers, written, removed)


def _with_earlier(changes: Changes, numbers: Places, written: Places, removed: Places) -> Folded:
    """Fills in what is not said again by the changes before."""
    cells = {place: set(map(int, rows)) for place, rows in changes.unknown.items()}
    wanted = {int(row) for row in written}
    earlier = _Earlier(changes, numbers, cells)
    taken: dict[int, list[tuple[int, int]]] = {}
    unknown: dict[int, set[int]] = {}
    moved: dict[int, int] = {}
    for place, rows in cells.items():
        for row in rows & wanted:
            source, former = earlier.said(row, place)
            if source is not None:
                taken.setdefault(place, []).append((row, source))
            else:
                unknown.setdefault(row, set()).add(place)
                if former is not None:
                    moved[row] = former
    columns = [plain_array(column) for column in changes.values.columns]
    for place, pairs in taken.items():
        index = np.arange(changes.values.num_rows)
        for row, source in pairs:
            index[row] = source
        columns[place] = columns[place].take(pa.array(index))
    values = pa.table(columns, names=changes.values.column_names)
    return Folded(values, written, removed, {row: frozenset(places) for row, places in unknown.items()}, moved)


class _Earlier:
    """Finds the change that says a value which a later one of the same row does not."""

    def __init__(self, changes: Changes, numbers: Places, cells: Mapping[int, set[int]]) -> None:
        self._kinds, self._numbers, self._cells = changes.kinds, numbers, cells
        self._values = [plain_array(column) for column in changes.values.columns]
        self._rows: dict[int, list[int]] = {}
        touched = {int(numbers[row]) for rows in cells.values() for row in rows}
        touched |= {int(numbers[row - 1]) for rows in cells.values() for row in rows if self._is_moved(row)}
        for row in np.flatnonzero(np.isin(numbers, list(touched))):
            self._rows.setdefault(int(numbers[row]), []).append(int(row))

    def _is_moved(self, row: int) -> bool:
        return row > 0 and self._kinds[row - 1] == Kind.FORMER and self._numbers[row - 1] != self._numbers[row]

    def said(self, row: int, place: int) -> tuple[int | None, int | None]:
        """The row that says it, None where none does: then also the row that has the key that it had before all changes, None: the same."""
        former, at = None, row
        while True:
            number, before = int(self._numbers[at]), at
            if self._kinds[at] == Kind.UPDATE and at > 0 and self._kinds[at - 1] == Kind.FORMER:
                number, before = int(self._numbers[at - 1]), at - 1
                former = at - 1 if self._is_moved(at) else former
                if self._values[place][at - 1].is_valid:
                    return at - 1, None  # the whole row is known as it was
            earlier = [
                other for other in self._rows.get(number, ()) if other < before and self._kinds[other] != Kind.FORMER
            ]
            if not earlier or self._kinds[earlier[-1]] == Kind.DELETE:
                return None, former
            at = earlier[-1]
            if at not in self._cells.get(place, ()):
                return at, None
