"""From what is known of a column's values to its type, with a sentence that says why."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType
from ultravect.core.types.inference.candidates import Candidate
from ultravect.core.types.inference.column_type import ColumnType, shown
from ultravect.core.types.inference.evidence import ColumnEvidence
from ultravect.core.words import counted

_DEFAULT_PRECISION = 18  # room for later files with larger amounts; still 64 bits


class Verdict:
    """The type of the column ``name``, as ``evidence`` says it at the moment."""

    def __init__(self, name: str, evidence: ColumnEvidence) -> None:
        self._name = name
        self._evidence = evidence

    def column_type(self) -> ColumnType:
        """The narrowest type that every value has, or text, with the reason."""
        if self._evidence.values == 0:
            return self._as_text("no values, so nothing says its type")
        if self._evidence.leading_zeros:
            row, value = self._evidence.leading_zeros
            return self._as_text(f"digits with leading zeros, first in row {row:,}: {value}")
        if self._evidence.beyond_64_bits:
            row, value = self._evidence.beyond_64_bits
            return self._as_text(f"digits beyond 64 bits, first in row {row:,}: {shown(value)}")
        best = self._evidence.best()
        if best is None:
            return self._mixed()
        if rival := self._evidence.rival(best):
            return self._as_text(
                f"{self._evidence.values:,} values could be {best.label} or {rival.label}: no day is above 12",
                ambiguous=True,
            )
        found = self._type_of(best)
        if found is None:
            row, value = self._evidence.unlike_double or (0, "")
            return self._as_text(f"numbers with more digits than a double has, first in row {row:,}: {shown(value)}")
        if best.proposes or self._evidence.may_be_null:
            return self._proposed(best, found)
        low, high = self._span(best)
        text = _with_count(self._evidence.values, self._label(best))
        return ColumnType(
            self._name,
            found,
            self._evidence.values,
            self._evidence.nulls,
            text if low is None else f"{text}, {low} to {high}",
            date_pattern=best.pattern,
            low=low,
            high=high,
        )

    def _type_of(self, best: Candidate) -> CanonicalType | None:
        """The type for columns that are read so; None where no type holds all digits."""
        digits = self._evidence.integer_digits + self._evidence.decimals
        if best.type.name == "double" and self._evidence.unlike_double and not self._evidence.is_measured:
            if digits > MAX_PRECISION:
                return None
            return CanonicalType("decimal", precision=MAX_PRECISION, scale=self._evidence.decimals)
        if best.type.name == "decimal" and best.proposes:
            return CanonicalType("decimal", precision=_DEFAULT_PRECISION, scale=min(self._fraction_of(best), 18))
        if best.type.name == "decimal":
            precision = _DEFAULT_PRECISION if digits <= _DEFAULT_PRECISION else MAX_PRECISION
            return CanonicalType("decimal", precision=precision, scale=self._evidence.decimals)
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
        if self._evidence.may_be_null:
            proposes["nulls"] = list(self._evidence.may_be_null)
            words = ", ".join(
                f"{word!r} {counted(count, 'time')}" for word, count in self._evidence.may_be_null.most_common(4)
            )
            evidence += f", and {words}, which may mean NULL"
        return self._as_text(evidence, proposes=proposes, would_be=would_be)

    def _label(self, candidate: Candidate) -> str:
        if candidate.type.name == "decimal":
            return f"numbers, at most {counted(self._evidence.decimals, 'decimal')}"
        if candidate.type.name == "double" and not self._evidence.has_exponent:
            return "measured numbers"
        return (
            candidate.label.replace("HH:MM:SS", "HH:MM:SS zone")
            if candidate.type.name == "timestamptz"
            else candidate.label
        )

    def _span(self, candidate: Candidate) -> tuple[str, str] | tuple[None, None]:
        if candidate.low is None:
            return None, None
        form = f".{self._evidence.decimals}f" if candidate.type.name == "decimal" else ""
        return format(candidate.low, form), format(candidate.high, form)

    def _mixed(self) -> ColumnType:
        nearest = max(self._evidence.candidates, key=lambda candidate: candidate.matched, default=None)
        if nearest is None or nearest.matched < nearest.misfits:
            length = f"at most {self._evidence.longest} character{'s' if self._evidence.longest != 1 else ''}"
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
            self._evidence.values,
            self._evidence.nulls,
            evidence,
            exceptions,
            ambiguous=ambiguous,
            longest=self._evidence.longest if self._evidence.values else None,
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
