"""Finds the type of text columns from all their values, and keeps the evidence."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.model.date_patterns import order_of
from ultravect.core.types.candidates import WORDS_FOR_NULL, Candidate, candidates_of, ways_of
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType
from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.digits import digits_of, digits_of_few, held_by_double
from ultravect.core.types.from_text import Converted, Mask, as_mask, convert_plain
from ultravect.core.types.proof import Proof, longest_null, null_words
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.words import counted

_MAX_EXCEPTIONS = 5
_MAX_SHOWN = 40
PROBE = 64
_DEFAULT_PRECISION = 18  # room for later files with larger amounts; still 64 bits
_SURE_DIGITS = 15  # any decimal number of so many digits is the same again after it was a double
_MEASURED_DECIMALS = 9  # amounts have fewer
_LOOKED_AT = 2000
_SAID_BY_FORMAT = frozenset(["boolean", "bigint", "decimal", "double"])


@dataclass(frozen=True)
class ColumnType:
    """An inferred type: ``date_pattern`` when it holds dates, ``ambiguous`` when day and month cannot be distinguished;
    ``longest`` is how many characters a text of it has at most. ``proposes`` is what the layout's ``values`` may say more, with
    which the column would be of type ``would_be``."""

    name: str
    type: CanonicalType
    values: int
    nulls: int
    evidence: str
    exceptions: Sequence[tuple[int, str]] = ()
    date_pattern: str | None = None
    ambiguous: bool = False
    low: str | None = None
    high: str | None = None
    longest: int | None = None
    proposes: dict[str, Any] | None = None
    would_be: CanonicalType | None = None

    def as_dict(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "type": str(self.type),
            "values": self.values,
            "nulls": self.nulls,
            "evidence": self.evidence,
            "exceptions": [{"row": row, "value": value} for row, value in self.exceptions],
            "date_pattern": self.date_pattern,
        }


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
        self._formats = formats
        self._patterns = tuple(date_patterns)
        self._values = 0
        self._nulls = 0
        self._longest = 0
        self._leading_zeros: tuple[int, str] | None = None
        self._beyond_64_bits: tuple[int, str] | None = None
        self._unlike_double: tuple[int, str] | None = None
        self._integer_digits = 0
        self._decimals = 0
        self._has_exponent = False
        self._only_as_double = False
        self._may_be_null: Counter[str] = Counter()
        self._looked = False
        self._candidates: list[Candidate] = []

    def add(self, values: pa.Array, rows: np.ndarray[Any, Any], *, is_text: bool = False) -> None:
        """``values`` are strings with NULLs; ``rows`` their row numbers in the file.

        ``is_text``: the format says that they are text, so that 42 among them is no number and ``true`` no boolean.
        """
        add_to_columns([self], values, rows, [is_text])

    @property
    def is_settled(self) -> bool:
        """Whether it is text, whatever else comes."""
        return bool(self._leading_zeros or self._beyond_64_bits or (self._looked and not self._candidates))

    def _counts(self, block: _Block, place: slice) -> npt.NDArray[np.int64]:
        """Counts the values at ``place`` of a block; gives the places of those that may say a type."""
        present = block.present[place]
        count = int(present.sum())
        self._nulls += len(present) - count
        if count == 0:
            return _NOWHERE
        self._values += count
        self._longest = max(self._longest, int(block.lengths[place][present].max()))
        if self.is_settled:
            return _NOWHERE
        kept = present
        words = present & block.may_be_null[place]
        if words.any():
            kept = present & ~words
            self._may_be_null.update(block.texts(np.flatnonzero(words) + place.start))
        places: npt.NDArray[np.int64] = np.flatnonzero(kept) + place.start
        return places

    def _look(self, probe: Sequence[str], *, is_text: bool) -> None:
        if not self._looked:
            self._looked = True
            ways = ways_of(probe, self._formats, self._patterns)
            self._candidates = candidates_of(ways, self._formats, self._patterns)
        if is_text:
            self._candidates = [
                candidate for candidate in self._candidates if candidate.type.name not in _SAID_BY_FORMAT
            ]

    def _tried(
        self, candidate: Candidate, converted: Converted, values: pa.Array, rows: np.ndarray[Any, Any]
    ) -> tuple[Any, Any] | None:
        """Counts a block's values for a candidate; gives their span when all of them are of its type."""
        failed: Mask = converted.failed
        misfits = int(np.count_nonzero(failed))
        if candidate.matched == 0 and misfits and failed[:PROBE].all():
            # Nothing in the first values looks like it: such a candidate is dropped for good.
            self._candidates.remove(candidate)
            return None
        candidate.matched += len(values) - misfits
        candidate.misfits += misfits
        for index in np.flatnonzero(failed)[: _MAX_EXCEPTIONS - len(candidate.exceptions)] if misfits else ():
            candidate.exceptions.append((int(rows[index]), shown(values[int(index)].as_py())))
        if candidate.type.name in ("boolean", "uuid"):
            return (None, None) if misfits == 0 else None
        span = pc.min_max(converted.array)
        low, high = span["min"].as_py(), span["max"].as_py()
        candidate.include(low, high)
        return (low, high) if misfits == 0 else None

    def _note_digits(self, block: _Block, trial: _Trial) -> None:
        """Leading zeros, and the digits on both sides of the decimal mark."""
        numeric = {c.type.name: c for c in self._candidates if c.type.name in ("bigint", "decimal", "double")}
        mark, rows, whole = self._formats.decimal_mark, trial.rows, trial.whole
        values = block.values(trial.places)
        found = digits_of_few(values, mark) if isinstance(values, list) else digits_of(values, mark)
        if found.leading_zeros is not None:
            self._leading_zeros = (int(rows[found.leading_zeros]), str(values[found.leading_zeros]))
            return
        if "bigint" in numeric and id(numeric["bigint"]) in whole:
            low, high = whole[id(numeric["bigint"])]
            self._integer_digits = max(self._integer_digits, len(str(max(abs(low), abs(high)))))
            return
        if found.beyond_64_bits is not None:
            self._beyond_64_bits = (int(rows[found.beyond_64_bits]), str(values[found.beyond_64_bits]))
            return
        self._has_exponent = self._has_exponent or found.has_exponent
        if "double" in numeric and id(numeric["double"]) in whole:
            if not self._has_exponent:
                self._decimals = max(self._decimals, found.decimals)
            span = [item for item in whole[id(numeric["double"])] if math.isfinite(item)]
            if span:
                self._integer_digits = max(self._integer_digits, len(str(int(max(map(abs, span))))))
            self._hold_against_double(pa.array(values), rows)

    def _hold_against_double(self, values: pa.Array, rows: np.ndarray[Any, Any]) -> None:
        """Looks for a number with more digits than a double has; numbers without so many need no look."""
        if self._unlike_double or self._has_exponent or self._decimals < _MEASURED_DECIMALS:
            return
        long = np.flatnonzero(as_mask(pc.greater(pc.binary_length(values), _SURE_DIGITS)))[:_LOOKED_AT]
        for index, text in zip(long, values.take(pa.array(long)).to_pylist(), strict=True):
            if not held_by_double(text.replace(self._formats.decimal_mark, ".")):
                self._unlike_double = (int(rows[index]), text)
                return

    def guess(self) -> CanonicalType | None:
        """What all values so far can be parsed as at once; None where they are to be looked at more closely."""
        if self._leading_zeros or self._beyond_64_bits or not self._candidates:
            return CanonicalType("text") if self._looked else None
        best = self._sure()
        if best is None:
            return None
        if best.type.name == "decimal":
            return CanonicalType("decimal", precision=MAX_PRECISION, scale=self._decimals)
        return best.type

    @property
    def date_pattern(self) -> str | None:
        """How dates are written, where all values are dates and there is one way to read them."""
        best = self._sure()
        return best.pattern if best else None

    def _sure(self) -> Candidate | None:
        """The narrowest way to read all values, when it has no rival and they are not a code."""
        if self._leading_zeros or self._beyond_64_bits or self._may_be_null:
            return None
        best = self._best()
        if best is None or best.proposes or self._rival(best) or (best.type.name == "double" and self._unlike_double):
            return None
        return best

    def _rival(self, best: Candidate) -> Candidate | None:
        """Another way to read dates, with day and month in the other order."""
        if best.pattern is None:
            return None
        others = (item for item in self._whole() if item.type == best.type and item.pattern)
        return next((other for other in others if order_of(other.pattern or "") != order_of(best.pattern)), None)

    def confirm(self, values: pa.Array) -> None:
        """Takes further values that were parsed as the type that ``guess`` gave."""
        present = len(values) - values.null_count
        self._nulls += values.null_count
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
        self._nulls += proof.nulls
        if proof.longest is None:
            self._confirm(proof.fit, proof.low, proof.high)
        else:
            self._values += proof.fit
            self._longest = max(self._longest, proof.longest)
        if len(proof.rest):
            self.add(proof.rest, rows[proof.places])

    def _confirm(self, present: int, low: Any, high: Any) -> None:
        """``present`` further values of the guessed type, from ``low`` to ``high``."""
        self._values += present
        best = self._best()
        if present == 0 or best is None:
            return
        chain: Candidate | None = best
        for candidate in self._candidates:
            if candidate is chain or candidate.narrower is chain:
                chain = candidate
                candidate.matched += present
                candidate.include(low, high)
        if best.type.name in ("bigint", "decimal"):
            largest = max(abs(low), abs(high))
            self._integer_digits = max(self._integer_digits, len(str(int(largest))))
        self._only_as_double = self._only_as_double or best.type.name == "double"

    def _note_text(self, values: pa.Array) -> None:
        """Values of a column that is text already: only how many there are, and how long."""
        lengths = pc.binary_length(values)
        # a NULL word may have spaces around it; what is longer is none
        short = values.filter(pc.less_equal(lengths, longest_null(self._formats.nulls)))
        words = null_words(short, self._formats.nulls)
        self._nulls += words
        self._values += len(values) - values.null_count - words
        if (pc.max(lengths).as_py() or 0) > self._longest:
            self._longest = max(self._longest, int(pc.max(pc.utf8_length(values)).as_py()))

    def _whole(self) -> list[Candidate]:
        """The ways to read the column in which all its values are read."""
        return [candidate for candidate in self._candidates if candidate.misfits == 0 and candidate.matched]

    def _best(self) -> Candidate | None:
        """The narrowest of these; of numbers with a fraction, the double that they are, or the decimal."""
        whole = self._whole()
        if not whole or whole[0].type.name != "decimal" or whole[0].proposes:
            return whole[0] if whole else None
        double = next((item for item in whole if item.type.name == "double"), None)
        return double if double and self._is_measured else whole[0]

    @property
    def _is_measured(self) -> bool:
        """An exponent is the sign of a measured number, which no exact decimal should pretend to be; and so do as many digits as doubles
        are written with."""
        if self._has_exponent or self._only_as_double:
            return True
        long = self._decimals >= _MEASURED_DECIMALS and self._integer_digits + self._decimals > _SURE_DIGITS
        return long and self._unlike_double is None

    def result(self) -> ColumnType:
        """The narrowest type that every value has, or text, with the reason."""
        if self._values == 0:
            return self._as_text("no values, so nothing says its type")
        if self._leading_zeros:
            row, value = self._leading_zeros
            return self._as_text(f"digits with leading zeros, first in row {row:,}: {value}")
        if self._beyond_64_bits:
            row, value = self._beyond_64_bits
            return self._as_text(f"digits beyond 64 bits, first in row {row:,}: {shown(value)}")
        best = self._best()
        if best is None:
            return self._mixed()
        if rival := self._rival(best):
            return self._as_text(
                f"{self._values:,} values could be {best.label} or {rival.label}: no day is above 12", ambiguous=True
            )
        found = self._type_of(best)
        if found is None:
            row, value = self._unlike_double or (0, "")
            return self._as_text(f"numbers with more digits than a double has, first in row {row:,}: {shown(value)}")
        if best.proposes or self._may_be_null:
            return self._proposed(best, found)
        low, high = self._span(best)
        text = _with_count(self._values, self._label(best))
        return ColumnType(
            self._name,
            found,
            self._values,
            self._nulls,
            text if low is None else f"{text}, {low} to {high}",
            date_pattern=best.pattern,
            low=low,
            high=high,
        )

    def _type_of(self, best: Candidate) -> CanonicalType | None:
        """The type for columns that are read so; None where no type holds all digits."""
        digits = self._integer_digits + self._decimals
        if best.type.name == "double" and self._unlike_double and not self._is_measured:
            if digits > MAX_PRECISION:
                return None
            return CanonicalType("decimal", precision=MAX_PRECISION, scale=self._decimals)
        if best.type.name == "decimal" and best.proposes:
            return CanonicalType("decimal", precision=_DEFAULT_PRECISION, scale=min(self._fraction_of(best), 18))
        if best.type.name == "decimal":
            precision = _DEFAULT_PRECISION if digits <= _DEFAULT_PRECISION else MAX_PRECISION
            return CanonicalType("decimal", precision=precision, scale=self._decimals)
        if best.type.name == "bigint":
            small = best.low >= -(2**31) and best.high < 2**31
            return CanonicalType("integer" if small else "bigint")
        return best.type

    @staticmethod
    def _fraction_of(best: Candidate) -> int:
        """Decimals of the smallest and the largest value."""
        spans = [item.normalize().as_tuple().exponent for item in (best.low, best.high) if item is not None]
        return max([-int(span) for span in spans] + [0])

    def _proposed(self, best: Candidate, would_be: CanonicalType) -> ColumnType:
        """Text, which would be of another type if the layout said more of its values."""
        proposes: dict[str, Any] = dict(best.proposes or {})
        evidence = _with_count(best.matched, best.label if best.proposes else self._label(best))
        if self._may_be_null:
            proposes["nulls"] = list(self._may_be_null)
            words = ", ".join(
                f"{word!r} {counted(count, 'time')}" for word, count in self._may_be_null.most_common(4)
            )
            evidence += f", and {words}, which may mean NULL"
        return self._as_text(evidence, proposes=proposes, would_be=would_be)

    def _label(self, candidate: Candidate) -> str:
        if candidate.type.name == "decimal":
            return f"numbers, at most {counted(self._decimals, 'decimal')}"
        if candidate.type.name == "double" and not self._has_exponent:
            return "measured numbers"
        return (
            candidate.label.replace("HH:MM:SS", "HH:MM:SS zone")
            if candidate.type.name == "timestamptz"
            else candidate.label
        )

    def _span(self, candidate: Candidate) -> tuple[str, str] | tuple[None, None]:
        if candidate.low is None:
            return None, None
        form = f".{self._decimals}f" if candidate.type.name == "decimal" else ""
        return format(candidate.low, form), format(candidate.high, form)

    def _mixed(self) -> ColumnType:
        nearest = max(self._candidates, key=lambda candidate: candidate.matched, default=None)
        if nearest is None or nearest.matched < nearest.misfits:
            length = f"at most {self._longest} character{'s' if self._longest != 1 else ''}"
            return self._as_text(f"text, {length}")
        others = ", ".join(f"row {row:,}: {value!r}" for row, value in nearest.exceptions[:3])
        text = f"mixed: {_with_count(nearest.matched, nearest.label)}, {nearest.misfits:,} other ({others})"
        return self._as_text(text, exceptions=nearest.exceptions)

    def _as_text(
        self,
        evidence: str,
        *,
        exceptions: Sequence[tuple[int, str]] = (),
        ambiguous: bool = False,
        proposes: dict[str, Any] | None = None,
        would_be: CanonicalType | None = None,
    ) -> ColumnType:
        return ColumnType(
            self._name,
            CanonicalType("text"),
            self._values,
            self._nulls,
            evidence,
            exceptions,
            ambiguous=ambiguous,
            longest=self._longest if self._values else None,
            proposes=proposes,
            would_be=would_be,
        )


def _with_count(count: int, label: str) -> str:
    """``2 whole numbers``; what is one is no plural."""
    if count == 1:
        for many in ("numbers", "words", "dates", "timestamps", "UUIDs"):
            label = re.sub(rf"\b{many}\b", many[:-1], label, count=1)
        label = label.replace("times of day", "time of day")
    return f"{count:,} {label}"


def shown(value: str) -> str:
    """A value cut to a length that fits into a message."""
    return value if len(value) <= _MAX_SHOWN else value[: _MAX_SHOWN - 1] + "…"


_LISTED = 200_000
_WORDS = pa.array(sorted(WORDS_FOR_NULL))
_NOWHERE = np.empty(0, np.int64)


@dataclass(frozen=True)
class _Block:
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
    def of(cls, values: pa.Array, nulls: Sequence[str]) -> _Block:
        trimmed = pc.utf8_trim_whitespace(values)
        present = as_mask(values.is_valid()) & ~as_mask(pc.is_in(trimmed, pa.array(nulls or ("",))))
        lengths = np.asarray(pc.fill_null(pc.utf8_length(values), 0))
        return cls(trimmed, present, as_mask(pc.is_in(trimmed, _WORDS)), lengths)


def add_to_columns(
    columns: Sequence[ColumnInference], values: pa.Array, rows: np.ndarray[Any, Any], is_text: Sequence[bool]
) -> None:
    """As ``ColumnInference.add`` for columns of one file: ``values`` are those of the first column, then those of the
    second, and so on, each with the same ``rows``. Kernels see all columns at once, which counts where there are many."""
    if not columns:
        return
    block = _Block.of(values, columns[0]._formats.nulls)
    height = len(rows)
    tried: list[_Trial] = []
    for number, column in enumerate(columns):
        places = column._counts(block, slice(number * height, (number + 1) * height))
        if len(places):
            trial = _Trial(column, places, rows[places - number * height])
            column._look(block.texts(places[:PROBE]), is_text=is_text[number])
            trial.left = list(column._candidates)
            tried.append(trial)
    while groups := _next_candidates(tried):
        for (kind, formats), trials in groups.items():
            _convert(block, kind, formats, trials)
    for trial in tried:
        if any(candidate.type.name in ("bigint", "decimal", "double") for candidate in trial.column._candidates):
            trial.column._note_digits(block, trial)


@dataclass
class _Trial:
    """A column's values of a block, held against its candidates one after the other."""

    column: ColumnInference
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


def _next_candidates(trials: Sequence[_Trial]) -> dict[tuple[CanonicalType, TextFormats], list[_Trial]]:
    found: dict[tuple[CanonicalType, TextFormats], list[_Trial]] = {}
    for trial in trials:
        candidate = trial.next()
        if candidate is not None:
            found.setdefault((candidate.type, candidate.formats), []).append(trial)
    return found


def _convert(block: _Block, kind: CanonicalType, formats: TextFormats, trials: Sequence[_Trial]) -> None:
    """Converts the values of all ``trials`` at once, and counts them for the first candidate of each."""
    if len(trials) == 1 and trials[0].left[0].matched == 0 and len(trials[0].places) > PROBE:
        # one long column: a look at its first values may spare the others
        first = block.trimmed.take(pa.array(trials[0].places[:PROBE]))
        if (converted := convert_plain(first, kind, formats)).failed.all():
            trials[0].column._tried(trials[0].left.pop(0), converted, first, trials[0].rows)
            return
    values = block.trimmed.take(pa.array(np.concatenate([item.places for item in trials])))
    converted = convert_plain(values, kind, formats)
    start = 0
    for trial in trials:
        size = len(trial.places)
        candidate = trial.left.pop(0)
        part = Converted(converted.array.slice(start, size), converted.failed[start : start + size])
        span = trial.column._tried(candidate, part, values.slice(start, size), trial.rows)
        if span is not None:
            trial.whole[id(candidate)] = span
        start += size
