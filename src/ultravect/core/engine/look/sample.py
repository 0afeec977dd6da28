"""Some rows of a scan, to be shown: the first ones, or ones picked at random from all."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from ultravect.core.layouts.base import Rows
from ultravect.core.types.arrow import as_text, plain_array


class FirstRows:
    """The first ``count`` rows; ``numbers`` count them from 1."""

    def __init__(self, count: int) -> None:
        self._wanted = count
        self.rows: list[list[str | None]] = []
        self.numbers: list[int] = []

    @property
    def satisfied(self) -> bool:
        return len(self.rows) >= self._wanted

    def take(self, rows: Rows, rows_before: int) -> None:
        missing = self._wanted - len(self.rows)
        if missing > 0:
            self.rows += text_rows(rows.values.slice(0, missing))
            self.numbers += (rows.index[:missing] + rows_before + 1).tolist()


class RandomRows:
    """``count`` rows, each row of the scan with the same chance; in the order of the file."""

    def __init__(self, count: int, seed: int | None = None) -> None:
        self._wanted = count
        self._random = np.random.default_rng(seed)
        self._kept: list[tuple[float, int, list[str | None]]] = []

    @property
    def satisfied(self) -> bool:
        return False

    def take(self, rows: Rows, rows_before: int) -> None:
        # each row draws a lot; those with the smallest lots are kept
        lots = self._random.random(len(rows.index))
        limit = self._kept[-1][0] if len(self._kept) >= self._wanted else 1.0
        able = np.flatnonzero(lots < limit)
        able = able[np.argsort(lots[able])][: self._wanted]
        texts = text_rows(rows.values.take(pa.array(able)))
        numbers = rows.index[able] + rows_before + 1
        drawn = [(float(lots[at]), int(number), text) for at, number, text in zip(able, numbers, texts, strict=True)]
        self._kept = sorted([*self._kept, *drawn], key=lambda item: item[0])[: self._wanted]

    @property
    def rows(self) -> list[list[str | None]]:
        return [text for _, _, text in sorted(self._kept, key=lambda item: item[1])]

    @property
    def numbers(self) -> list[int]:
        return sorted(number for _, number, _ in self._kept)


def text_column(values: pa.Array | pa.ChunkedArray) -> pa.Array:
    """A column as it would be written; bytes of a text file that are not UTF-8 as \\xHH."""
    array = plain_array(values)
    if not pa.types.is_binary(array.type):
        return as_text(array)
    try:
        return array.cast(pa.string())
    except pa.ArrowInvalid:
        texts = [None if value is None else value.decode("utf-8", "backslashreplace") for value in array.to_pylist()]
        return pa.array(texts, pa.string())


def text_rows(table: pa.Table) -> list[list[str | None]]:
    """Rows of text, to be shown."""
    columns = [text_column(column).to_pylist() for column in table.columns]
    return [list(row) for row in zip(*columns, strict=True)]
