"""What the values of a block say about the type that their column was so far."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc


@dataclass(frozen=True)
class Proof:
    """``fit`` values are plainly of the type, from ``low`` to ``high``; ``rest`` are texts that are not, at the ``places``
    of their rows in the block.

    ``nulls`` are neither. ``longest`` is the length in characters of the longest text, for text only.
    """

    fit: int
    nulls: int
    rest: pa.Array
    places: npt.NDArray[np.int64]
    low: Any = None
    high: Any = None
    longest: int | None = None

    @property
    def rows(self) -> int:
        return self.fit + self.nulls + len(self.rest)


def longest_null(nulls: tuple[str, ...]) -> int:
    """Bytes of the longest NULL word with white space around it."""
    return max([len(word.encode()) for word in nulls], default=0) + 8


def null_words(values: pa.Array, nulls: tuple[str, ...]) -> int:
    """How many of these texts are NULL words, or empty, with or without white space around them."""
    found = pc.is_in(pc.utf8_trim_whitespace(values), pa.array(nulls or ("",)))
    return int(pc.sum(found).as_py() or 0)
