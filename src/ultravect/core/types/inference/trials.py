"""Holds the values of columns against the types that they may have, all columns at once."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Converted, Mask, as_mask
from ultravect.core.types.from_text import convert_plain
from ultravect.core.types.inference.candidates import WORDS_FOR_NULL, Candidate
from ultravect.core.types.inference.column_type import shown
from ultravect.core.types.inference.digits import digits_of, digits_of_few, held_by_double
from ultravect.core.types.inference.evidence import MEASURED_DECIMALS, SURE_DIGITS, ColumnEvidence
from ultravect.core.types.text_formats import TextFormats

PROBE = 64
"""So many first values may say that a column is not of a type."""
_MAX_EXCEPTIONS = 5
_LOOKED_AT = 2000
_LISTED = 200_000
_WORDS = pa.array(sorted(WORDS_FOR_NULL))


@dataclass(frozen=True)
class Block:
    """Values of several columns, one after the other, and what kernels say about all of them at once."""

    trimmed: pa.Array
    present: Mask
    may_be_null: Mask
    lengths: npt.NDArray[np.int64]

    @cached_property
    def _listed(self) -> list[str | None] | None:
        return self.trimmed.to_pylist() if len(self.trimmed) <= _LISTED else None

    def texts(self, places: npt.NDArray[np.int64]) -> list[str]:
        """The values at some places, for which no kernel is called where the block is small."""
        if self._listed is None:
            return list(self.trimmed.take(pa.array(places)).to_pylist())
        return [self._listed[place] or "" for place in places.tolist()]

    def values(self, places: npt.NDArray[np.int64]) -> list[str] | pa.Array:
        """The same as a list where they are few, and as an array where they are many."""
        return self.texts(places) if len(places) <= PROBE else self.trimmed.take(pa.array(places))

    @classmethod
    def of(cls, values: pa.Array, nulls: Sequence[str]) -> Block:
        trimmed = pc.utf8_trim_whitespace(values)
        present = as_mask(values.is_valid()) & ~as_mask(pc.is_in(trimmed, pa.array(nulls or ("",))))
        lengths = np.asarray(pc.fill_null(pc.utf8_length(values), 0))
        return cls(trimmed, present, as_mask(pc.is_in(trimmed, _WORDS)), lengths)


@dataclass
class Trial:
    """A column's values of a block, held against its candidates one after the other."""

    evidence: ColumnEvidence
    places: npt.NDArray[np.int64]
    rows: np.ndarray[Any, Any]
    left: list[Candidate] = field(default_factory=list)
    whole: dict[int, tuple[Any, Any]] = field(default_factory=dict)

    def next(self) -> Candidate | None:
        """The next candidate that has to be tried."""
        while self.left:
            candidate = self.left[0]
            if id(candidate.narrower) not in self.whole:
                return candidate
            # what every value of the block is in a narrower type, it is in this one
            candidate.matched += len(self.places)
            span = self.whole[id(candidate)] = self.whole[id(candidate.narrower)]
            candidate.include(*span)
            self.left.pop(0)
        return None

    def count(self, candidate: Candidate, converted: Converted, values: pa.Array) -> tuple[Any, Any] | None:
        """Counts a block's values for a candidate; gives their span when all of them are of its type."""
        failed: Mask = converted.failed
        misfits = int(np.count_nonzero(failed))
        if candidate.matched == 0 and misfits and failed[:PROBE].all():
            # Nothing in the first values looks like it: such a candidate is dropped for good.
            self.evidence.candidates.remove(candidate)
            return None
        candidate.matched += len(values) - misfits
        candidate.misfits += misfits
        for index in np.flatnonzero(failed)[: _MAX_EXCEPTIONS - len(candidate.exceptions)] if misfits else ():
            candidate.exceptions.append((int(self.rows[index]), shown(values[int(index)].as_py())))
        if candidate.type.name in ("boolean", "uuid"):
            return (None, None) if misfits == 0 else None
        span = pc.min_max(converted.array)
        low, high = span["min"].as_py(), span["max"].as_py()
        candidate.include(low, high)
        return (low, high) if misfits == 0 else None

    def note_digits(self, block: Block) -> None:
        """Leading zeros, and the digits on both sides of the decimal mark."""
        evidence = self.evidence
        numeric = {c.type.name: c for c in evidence.candidates if c.type.name in ("bigint", "decimal", "double")}
        mark, rows, whole = evidence.formats.decimal_mark, self.rows, self.whole
        values = block.values(self.places)
        found = digits_of_few(values, mark) if isinstance(values, list) else digits_of(values, mark)
        if found.leading_zeros is not None:
            evidence.leading_zeros = (int(rows[found.leading_zeros]), str(values[found.leading_zeros]))
            return
        if "bigint" in numeric and id(numeric["bigint"]) in whole:
            low, high = whole[id(numeric["bigint"])]
            evidence.integer_digits = max(evidence.integer_digits, len(str(max(abs(low), abs(high)))))
            return
        if found.beyond_64_bits is not None:
            evidence.beyond_64_bits = (int(rows[found.beyond_64_bits]), str(values[found.beyond_64_bits]))
            return
        evidence.has_exponent = evidence.has_exponent or found.has_exponent
        if "double" in numeric and id(numeric["double"]) in whole:
            if not evidence.has_exponent:
                evidence.decimals = max(evidence.decimals, found.decimals)
            span = [item for item in whole[id(numeric["double"])] if math.isfinite(item)]
            if span:
                evidence.integer_digits = max(evidence.integer_digits, len(str(int(max(map(abs, span))))))
            self._hold_against_double(pa.array(values))

    def _hold_against_double(self, values: pa.Array) -> None:
        """Looks for a number with more digits than a double has; numbers without so many need no look."""
        evidence = self.evidence
        if evidence.unlike_double or evidence.has_exponent or evidence.decimals < MEASURED_DECIMALS:
            return
        long = np.flatnonzero(as_mask(pc.greater(pc.binary_length(values), SURE_DIGITS)))[:_LOOKED_AT]
        for index, text in zip(long, values.take(pa.array(long)).to_pylist(), strict=True):
            if not held_by_double(text.replace(evidence.formats.decimal_mark, ".")):
                evidence.unlike_double = (int(self.rows[index]), text)
                return


def try_all(block: Block, trials: Sequence[Trial]) -> None:
    """Counts the values of all ``trials`` for each of their candidates, kernel calls shared; then looks at their digits."""
    while groups := _next_candidates(trials):
        for (kind, formats), together in groups.items():
            _convert(block, kind, formats, together)
    for trial in trials:
        if any(candidate.type.name in ("bigint", "decimal", "double") for candidate in trial.evidence.candidates):
            trial.note_digits(block)


def _next_candidates(trials: Sequence[Trial]) -> dict[tuple[CanonicalType, TextFormats], list[Trial]]:
    found: dict[tuple[CanonicalType, TextFormats], list[Trial]] = {}
    for trial in trials:
        candidate = trial.next()
        if candidate is not None:
            found.setdefault((candidate.type, candidate.formats), []).append(trial)
    return found


def _convert(block: Block, kind: CanonicalType, formats: TextFormats, trials: Sequence[Trial]) -> None:
    """Converts the values of all ``trials`` at once, and counts them for the first candidate of each."""
    if len(trials) == 1 and trials[0].left[0].matched == 0 and len(trials[0].places) > PROBE:
        # one long column: a look at its first values may spare the others
        first = block.trimmed.take(pa.array(trials[0].places[:PROBE]))
        if (converted := convert_plain(first, kind, formats)).failed.all():
            trials[0].count(trials[0].left.pop(0), converted, first)
            return
    values = block.trimmed.take(pa.array(np.concatenate([item.places for item in trials])))
    converted = convert_plain(values, kind, formats)
    start = 0
    for trial in trials:
        size = len(trial.places)
        candidate = trial.left.pop(0)
        part = Converted(converted.array.slice(start, size), converted.failed[start : start + size])
        span = trial.count(candidate, part, values.slice(start, size))
        if span is not None:
            trial.whole[id(candidate)] = span
        start += size
