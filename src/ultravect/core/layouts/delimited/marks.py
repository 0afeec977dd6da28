"""Where the bytes stand that cut a block: delimiters, line ends and quotes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt


@dataclass(frozen=True)
class Marks:
    """``places`` in their order, and the byte at each of them in ``kinds``."""

    places: npt.NDArray[np.int64]
    kinds: npt.NDArray[np.uint8]

    def of(self, kind: int) -> npt.NDArray[np.int64]:
        return self.places.compress(self.kinds == kind)

    def only(self, which: npt.NDArray[np.bool_]) -> Marks:
        return Marks(self.places.compress(which), self.kinds.compress(which))


def find_marks(structure: npt.NDArray[np.uint8], *marks: int | None) -> Marks:
    """Where the bytes ``marks`` stand; None among them is no byte."""
    found = np.zeros(len(structure), np.bool_)
    for mark in marks:
        if mark is not None:
            found |= structure == np.uint8(mark)
    places = np.flatnonzero(found)
    return Marks(places, structure.take(places))
