"""Takes the values of text columns block by block, and says their types at any time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType
from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.inference.candidates import Candidate, candidates_of, ways_of
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.types.inference.evidence import ColumnEvidence
from ultravect.core.types.inference.proof import Proof, longest_null, null_words
from ultravect.core.types.inference.trials import PROBE, Block, Trial, try_all
from ultravect.core.types.inference.verdict import Verdict
from ultravect.core.types.text_formats import TextFormats

_SAID_BY_FORMAT = frozenset(["boolean", "bigint", "decimal", "double"])
_NOWHERE = np.empty(0, np.int64)


def has_long_digits(values: pa.Array) -> bool:
    """Whether numbers reach beyond 64 bits: written without mark and exponent, such digits are no number but a code."""
    if not (pa.types.is_decimal(values.type) or pa.types.is_floating(values.type)):
        return False
    span = pc.min_max(values).as_py()
    return any(value is not None and abs(value) >= 2**63 for value in span.values())


class ColumnInference:
    """Takes a column's values block by block; ``result`` may be asked at any time."""

    def __init__(self, name: str, formats: TextFormats, date_patterns: Sequence[str] = DATE_PATTERNS) -> None:
        self._name = name
        self._patterns = tuple(date_patterns)
        self.evidence = ColumnEvidence(formats)

    def add(self, values: pa.Array, rows: np.ndarray[Any, Any], *, is_text: bool = False) -> None:
        """``values`` are strings with NULLs; ``rows`` their row numbers in the file.

        ``is_text``: the format says that they are text, so that 42 among them is no number and ``true`` no boolean.
        """
        add_to_columns([self], values, rows, [is_text])

    @property
    def is_settled(self) -> bool:
        """Whether it is text, whatever else comes."""
        return self.evidence.is_settled

    def counts(self, block: Block, place: slice) -> npt.NDArray[np.int64]:
        """Counts the values at ``place`` of a block; gives the places of those that may say a type."""
        present = block.present[place]
        count = int(present.sum())
        self.evidence.nulls += len(present) - count
        if count == 0:
            return _NOWHERE
        self.evidence.values += count
        self.evidence.longest = max(self.evidence.longest, int(block.lengths[place][present].max()))
        if self.evidence.is_settled:
            return _NOWHERE
        kept = present
        words = present & block.may_be_null[place]
        if words.any():
            kept = present & ~words
            self.evidence.may_be_null.update(block.texts(np.flatnonzero(words) + place.start))
        places: npt.NDArray[np.int64] = np.flatnonzero(kept) + place.start
        return places

    def look(self, probe: Sequence[str], *, is_text: bool) -> None:
        if not self.evidence.looked:
            self.evidence.looked = True
            ways = ways_of(probe, self.evidence.formats, self._patterns)
            self.evidence.candidates = candidates_of(ways, self.evidence.formats, self._patterns)
        if is_text:
            self.evidence.candidates = [
                candidate for candidate in self.evidence.candidates if candidate.type.name not in _SAID_BY_FORMAT
            ]

    def guess(self) -> CanonicalType | None:
        """What all values so far can be parsed as at once; None where they are to be looked at more closely."""
        if self.evidence.leading_zeros or self.evidence.beyond_64_bits or not self.evidence.candidates:
            return CanonicalType("text") if self.evidence.looked else None
        best = self.evidence.sure()
        if best is None:
            return None
        if best.type.name == "decimal":
            return CanonicalType("decimal", precision=MAX_PRECISION, scale=self.evidence.decimals)
        return best.type

    @property
    def date_pattern(self) -> str | None:
        """How dates are written, where all values are dates and there is one way to read them."""
        best = self.evidence.sure()
        return best.pattern if best else None

    def confirm(self, values: pa.Array) -> None:
        """Takes further values that were parsed as the type that ``guess`` gave."""
        present = len(values) - values.null_count
        self.evidence.nulls += values.null_count
        if pa.types.is_string(values.type):
            self._note_text(values)
            return
        low = high = None
        if present and not (pa.types.is_boolean(values.type) or pa.types.is_string(values.type)):
            found = pc.min_max(values).as_py()
            low, high = found["min"], found["max"]
        self._confirm(present, low, high)

    def take(self, proof: Proof, rows: np.ndarray[Any, Any]) -> None:
        """Counts what a block says about the type that ``guess`` gave, and looks at the rest as text; ``rows`` as in ``add``."""
        self.evidence.nulls += proof.nulls
        if proof.longest is None:
            self._confirm(proof.fit, proof.low, proof.high)
        else:
            self.evidence.values += proof.fit
            self.evidence.longest = max(self.evidence.longest, proof.longest)
        if len(proof.rest):
            self.add(proof.rest, rows[proof.places])

    def _confirm(self, present: int, low: Any, high: Any) -> None:
        """``present`` further values of the guessed type, from ``low`` to ``high``."""
        self.evidence.values += present
        best = self.evidence.best()
        if present == 0 or best is None:
            return
        chain: Candidate | None = best
        for candidate in self.evidence.candidates:
            if candidate is chain or candidate.narrower is chain:
                chain = candidate
                candidate.matched += present
                candidate.include(low, high)
        if best.type.name in ("bigint", "decimal"):
            largest = max(abs(low), abs(high))
            self.evidence.integer_digits = max(self.evidence.integer_digits, len(str(int(largest))))
        self.evidence.only_as_double = self.evidence.only_as_double or best.type.name == "double"

    def _note_text(self, values: pa.Array) -> None:
        """Values of a column that is text already: only how many there are, and how long."""
        lengths = pc.binary_length(values)
        # a NULL word may have spaces around it; what is longer is none
        short = values.filter(pc.less_equal(lengths, longest_null(self.evidence.formats.nulls)))
        words = null_words(short, self.evidence.formats.nulls)
        self.evidence.nulls += words
        self.evidence.values += len(values) - values.null_count - words
        if (pc.max(lengths).as_py() or 0) > self.evidence.longest:
            self.evidence.longest = max(self.evidence.longest, int(pc.max(pc.utf8_length(values)).as_py()))

    def result(self) -> ColumnType:
        """The narrowest type that every value has, or text, with the reason."""
        return Verdict(self._name, self.evidence).column_type()


def add_to_columns(
    columns: Sequence[ColumnInference], values: pa.Array, rows: np.ndarray[Any, Any], is_text: Sequence[bool]
) -> None:
    """As ``ColumnInference.add`` for columns of one file: ``values`` are those of the first column, then those of the
    second, and so on, each with the same ``rows``. Kernels see all columns at once, which counts where there are many."""
    if not columns:
        return
    block = Block.of(values, columns[0].evidence.formats.nulls)
    height = len(rows)
    tried: list[Trial] = []
    for number, column in enumerate(columns):
        places = column.counts(block, slice(number * height, (number + 1) * height))
        if len(places):
            column.look(block.texts(places[:PROBE]), is_text=is_text[number])
            evidence = column.evidence
            tried.append(Trial(evidence, places, rows[places - number * height], list(evidence.candidates)))
    try_all(block, tried)
