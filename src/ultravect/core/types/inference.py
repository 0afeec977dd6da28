"""Finds the type of text columns from all their values, and keeps the evidence."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType
from ultravect.core.types.from_text import Mask, as_mask, convert_plain
from ultravect.core.types.proof import Proof, longest_null, null_words
from ultravect.core.types.text_formats import ISO_DATE, TextFormats
from ultravect.core.words import counted

_MAX_EXCEPTIONS = 5
_MAX_SHOWN = 40
_PROBE = 64
_DEFAULT_PRECISION = 18  # room for later files with larger amounts; still 64 bits
_SAID_BY_FORMAT = frozenset(["boolean", "bigint", "decimal", "double"])
# Date patterns tried when the layout names none. The last two can be told apart only by a day above 12.
DATE_PATTERNS = (ISO_DATE, "DD.MM.YYYY", "YYYY/MM/DD", "DD/MM/YYYY", "MM/DD/YYYY")


@dataclass
class _Candidate:
    """One way to read a column, with how many values agree and the first that do not."""

    type: CanonicalType
    label: str
    pattern: str | None = None
    narrower: _Candidate | None = None
    matched: int = 0
    misfits: int = 0
    exceptions: list[tuple[int, str]] = field(default_factory=list)
    low: Any = None
    high: Any = None

    def include(self, low: Any, high: Any) -> None:
        """Widens the span of values seen; a narrower type's values are brought to this type first."""
        if low is None:
            return
        if self.type.name == "double":
            low, high = float(low), float(high)
        elif self.type.name == "timestamp" and not isinstance(low, dt.datetime):
            low, high = (dt.datetime.combine(day, dt.time()) for day in (low, high))
        self.low = low if self.low is None else min(low, self.low)
        self.high = high if self.high is None else max(high, self.high)


@dataclass(frozen=True)
class ColumnType:
    """An inferred type: ``date_pattern`` when it holds dates, ``ambiguous`` when day and month cannot be told apart;
    ``longest`` is how many characters a text of it has at most."""

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


def _true_count(mask: pa.BooleanArray) -> int:
    return int(pc.sum(mask).as_py() or 0)


class ColumnInference:
    """Takes a column's values block by block; ``result`` may be asked at any time."""

    def __init__(self, name: str, formats: TextFormats, date_patterns: Sequence[str] = DATE_PATTERNS) -> None:
        self._name = name
        self._formats = formats
        self._values = 0
        self._nulls = 0
        self._longest = 0
        self._leading_zeros: tuple[int, str] | None = None
        self._beyond_64_bits: tuple[int, str] | None = None
        self._integer_digits = 0
        self._decimals = 0
        self._has_fraction = False
        self._has_exponent = False
        whole = _Candidate(CanonicalType("bigint"), "whole numbers")
        exact = _Candidate(CanonicalType("decimal", precision=38, scale=18), "decimal numbers", narrower=whole)
        self._candidates = [
            _Candidate(CanonicalType("boolean"), "words for true and false"),
            whole,
            exact,
            _Candidate(CanonicalType("double"), "numbers with exponents", narrower=exact),
            _Candidate(CanonicalType("time"), "times of day"),
            _Candidate(CanonicalType("uuid"), "UUIDs"),
        ]
        for pattern in date_patterns:
            day = _Candidate(CanonicalType("date"), f"dates ({pattern})", pattern)
            label = f"timestamps ({pattern} HH:MM:SS)"
            self._candidates += [
                day,
                _Candidate(CanonicalType("timestamp"), label, pattern, narrower=day),
                _Candidate(CanonicalType("timestamptz"), label, pattern),
            ]

    def add(self, values: pa.Array, rows: np.ndarray[Any, Any], *, is_text: bool = False) -> None:
        """``values`` are strings with NULLs; ``rows`` their row numbers in the file.

        ``is_text``: the format says that they are text, so that 42 among them is no number and ``true`` no boolean.
        """
        words = pa.array(self._formats.nulls or ("",))
        trimmed = pc.utf8_trim_whitespace(values)
        present = pc.and_(values.is_valid(), pc.invert(pc.is_in(trimmed, words)))
        count = _true_count(present)
        self._nulls += len(values) - count
        if count == 0:
            return
        if count < len(values):
            rows = rows[as_mask(present)]
            values, trimmed = values.filter(present), trimmed.filter(present)
        self._values += count
        self._longest = max(self._longest, int(pc.max(pc.utf8_length(values)).as_py()))
        if is_text:
            for candidate in [one for one in self._candidates if one.type.name in _SAID_BY_FORMAT]:
                self._candidates.remove(candidate)
        if self._leading_zeros or self._beyond_64_bits:
            return  # it is text, whatever else comes
        whole: dict[int, tuple[Any, Any]] = {}
        for candidate in list(self._candidates):
            if id(candidate.narrower) in whole:
                # what every value of the block is in a narrower type, it is in this one
                candidate.matched += count
                span = whole[id(candidate)] = whole[id(candidate.narrower)]
                candidate.include(*span)
            else:
                found = self._try(candidate, trimmed, rows, count)
                if found is not None:
                    whole[id(candidate)] = found
        self._note_digits(trimmed, rows, whole)

    def _try(
        self, candidate: _Candidate, values: pa.Array, rows: np.ndarray[Any, Any], count: int
    ) -> tuple[Any, Any] | None:
        """Counts a block's values for a candidate; gives their span when all of them are of its type."""
        formats = self._formats
        if candidate.pattern is not None:
            formats = replace(formats, date_pattern=candidate.pattern)
        converted = convert_plain(values.slice(0, _PROBE), candidate.type, formats)
        if candidate.matched == 0 and converted.failed.all():
            # Nothing in the first values looks like it: such a candidate is dropped for good.
            self._candidates.remove(candidate)
            return None
        if len(values) > _PROBE:
            converted = convert_plain(values, candidate.type, formats)
        failed: Mask = converted.failed
        misfits = int(failed.sum())
        candidate.matched += count - misfits
        candidate.misfits += misfits
        for index in np.flatnonzero(failed)[: _MAX_EXCEPTIONS - len(candidate.exceptions)]:
            candidate.exceptions.append((int(rows[index]), shown(values[int(index)].as_py())))
        if candidate.type.name in ("boolean", "uuid"):
            return (None, None) if misfits == 0 else None
        span = pc.min_max(converted.array)
        low, high = span["min"].as_py(), span["max"].as_py()
        candidate.include(low, high)
        return (low, high) if misfits == 0 else None

    def _note_digits(self, values: pa.Array, rows: np.ndarray[Any, Any], whole: dict[int, tuple[Any, Any]]) -> None:
        """Leading zeros, and the digits on both sides of the decimal mark."""
        numeric = {c.type.name: c for c in self._candidates if c.type.name in ("bigint", "decimal", "double")}
        if not numeric:
            return
        mark = self._formats.decimal_mark
        if self._leading_zeros is None:
            zeros = pc.match_substring_regex(values, r"^[+-]?0[0-9]+$")
            if _true_count(zeros):
                index = pc.index(zeros, True).as_py()
                self._leading_zeros = (int(rows[index]), values[index].as_py())
        if "bigint" in numeric and id(numeric["bigint"]) in whole:
            low, high = whole[id(numeric["bigint"])]
            self._integer_digits = max(self._integer_digits, len(str(max(abs(low), abs(high)))))
            return
        if self._beyond_64_bits is None:
            wide = pc.match_substring_regex(values, r"^[+-]?[0-9]{19,}$")
            if _true_count(wide):
                failed = convert_plain(values.filter(wide), CanonicalType("bigint"), self._formats).failed
                if failed.any():
                    index = int(np.flatnonzero(as_mask(wide))[np.argmax(failed)])
                    self._beyond_64_bits = (int(rows[index]), values[index].as_py())
        if not self._has_exponent:
            self._has_exponent = _true_count(pc.match_substring_regex(values, r"^[+-]?[0-9.,]+[eE]")) > 0
        if "decimal" in numeric and id(numeric["decimal"]) in whole:
            at = pc.find_substring(values, mark)
            has_mark = pc.greater_equal(at, 0)
            length = pc.binary_length(values)
            decimals = pc.if_else(has_mark, pc.subtract(pc.subtract(length, at), 1), 0)
            self._decimals = max(self._decimals, int(pc.max(decimals).as_py()))
            self._has_fraction = self._has_fraction or _true_count(has_mark) > 0
            low, high = whole[id(numeric["decimal"])]
            self._integer_digits = max(self._integer_digits, len(str(int(max(abs(low), abs(high))))))

    def guess(self) -> CanonicalType | None:
        """What all values so far can be parsed as at once; None where they are to be looked at more closely."""
        if self._leading_zeros or self._beyond_64_bits or not self._candidates:
            return CanonicalType("text")
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

    def _sure(self) -> _Candidate | None:
        """The narrowest way to read all values, when it has no rival and they are not a code."""
        if self._leading_zeros or self._beyond_64_bits:
            return None
        best = self._whole()
        return best[0] if best and not any(one.type == best[0].type for one in best[1:]) else None

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
        """Counts what a block tells of the type that ``guess`` gave, and looks at the rest as text; ``rows`` as in ``add``."""
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
        if present == 0:
            return
        best = self._whole()[0]
        chain: _Candidate | None = best
        for candidate in self._candidates:
            if candidate is chain or candidate.narrower is chain:
                chain = candidate
                candidate.matched += present
                candidate.include(low, high)
        if best.type.name in ("bigint", "decimal"):
            largest = max(abs(low), abs(high))
            self._integer_digits = max(self._integer_digits, len(str(int(largest))))

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

    def _whole(self) -> list[_Candidate]:
        """The ways to read the column in which all its values are read."""
        # an exponent tells a measured number, which no exact decimal should pretend to be; without one, digits count
        unfit = "decimal" if self._has_exponent else "double"
        return [c for c in self._candidates if c.misfits == 0 and c.matched and c.type.name != unfit]

    def result(self) -> ColumnType:
        """The narrowest type that every value has, or text, with the reason."""
        if self._values == 0:
            return self._as_text("no values, so nothing tells its type")
        if self._leading_zeros:
            row, value = self._leading_zeros
            return self._as_text(f"digits with leading zeros, first in row {row:,}: {value}")
        if self._beyond_64_bits:
            row, value = self._beyond_64_bits
            return self._as_text(f"digits beyond 64 bits, first in row {row:,}: {shown(value)}")
        whole = self._whole()
        if not whole:
            return self._mixed()
        best = whole[0]
        rivals = [c for c in whole[1:] if c.type == best.type]
        if rivals:
            return self._as_text(
                f"{self._values:,} values could be {best.label} or {rivals[0].label}: no day is above 12",
                ambiguous=True,
            )
        text = f"{self._values:,} {self._label(best)}"
        if best.type.name == "decimal":
            digits = self._integer_digits + self._decimals
            precision = _DEFAULT_PRECISION if digits <= _DEFAULT_PRECISION else 38
            found = CanonicalType("decimal", precision=precision, scale=self._decimals)
        elif best.type.name == "bigint":
            small = best.low >= -(2**31) and best.high < 2**31
            found = CanonicalType("integer" if small else "bigint")
        else:
            found = best.type
        low, high = self._span(best)
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

    def _label(self, candidate: _Candidate) -> str:
        if candidate.type.name == "decimal":
            return f"numbers, at most {counted(self._decimals, 'decimal')}"
        return (
            candidate.label.replace("HH:MM:SS", "HH:MM:SS zone")
            if candidate.type.name == "timestamptz"
            else candidate.label
        )

    def _span(self, candidate: _Candidate) -> tuple[str, str] | tuple[None, None]:
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
        text = f"mixed: {nearest.matched:,} {nearest.label}, {nearest.misfits:,} other ({others})"
        return self._as_text(text, exceptions=nearest.exceptions)

    def _as_text(
        self, evidence: str, *, exceptions: Sequence[tuple[int, str]] = (), ambiguous: bool = False
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
        )


def shown(value: str) -> str:
    """A value cut to a length that fits into a message."""
    return value if len(value) <= _MAX_SHOWN else value[: _MAX_SHOWN - 1] + "…"
