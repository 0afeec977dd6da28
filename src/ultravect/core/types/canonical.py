"""The types that stand between dialects, written with their SQL-standard names; each has one Arrow type."""

from __future__ import annotations

import enum
import re
from dataclasses import dataclass

import pyarrow as pa

from ultravect.core.model.problems import did_you_mean

MAX_PRECISION = 38

_SYNTAX = re.compile(r"^\s*([a-zA-Z]+)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*$")
_ARROW: dict[str, pa.DataType] = {
    "boolean": pa.bool_(),
    "smallint": pa.int16(),
    "integer": pa.int32(),
    "bigint": pa.int64(),
    "real": pa.float32(),
    "double": pa.float64(),
    "text": pa.string(),
    "binary": pa.binary(),
    "date": pa.date32(),
    "time": pa.time64("us"),
    "timestamp": pa.timestamp("us"),
    "timestamptz": pa.timestamp("us", "UTC"),
    "uuid": pa.binary(16),
    "json": pa.string(),
}
NAMES = (*_ARROW, "decimal")
_ARGUMENTS = {"decimal": 2, "text": 1, "binary": 1, "time": 1, "timestamp": 1, "timestamptz": 1}


class Fit(enum.StrEnum):
    """How a type survives a translation."""

    EXACT = "exact"
    WIDER = "wider"
    NARROWER = "narrower"
    DIFFERENT = "different"


@dataclass(frozen=True)
class CanonicalType:
    """``length`` is in characters (text) or bytes (binary), ``precision`` in digits, or fractional digits of seconds."""

    name: str
    length: int | None = None
    precision: int | None = None
    scale: int | None = None

    @property
    def arrow(self) -> pa.DataType:
        """The Arrow type of the values in memory. A decimal without precision travels as its digits."""
        if self.name == "decimal":
            return pa.string() if self.precision is None else pa.decimal128(self.precision, self.scale or 0)
        return _ARROW[self.name]

    def __str__(self) -> str:
        if self.name == "decimal" and self.precision is not None:
            return f"decimal({self.precision},{self.scale or 0})"
        argument = self.length if self.length is not None else self.precision
        return self.name if argument is None else f"{self.name}({argument})"


def parse_type(text: str) -> CanonicalType:
    """The type written as ``text``, such as ``decimal(10,2)``; ValueError says what is wrong."""
    match = _SYNTAX.match(text)
    name = match[1].lower() if match else ""
    if match is None or name not in NAMES:
        hint = did_you_mean(name or text, NAMES)
        raise ValueError(
            f"{text.strip()!r} is not a type" + (f"; {hint}" if hint else f"; types are {', '.join(NAMES)}")
        )
    first, second = (int(part) if part else None for part in match.groups()[1:])
    allowed = _ARGUMENTS.get(name, 0)
    if (first is not None and allowed == 0) or (second is not None and allowed < 2):
        raise ValueError(f"{text.strip()!r}: {name} takes {'no' if not allowed else 'one'} argument in parentheses")
    if name == "decimal":
        precision, scale = first, second or 0
        if precision is not None and not (1 <= precision <= MAX_PRECISION and scale <= precision):
            raise ValueError(f"decimal takes 1 to {MAX_PRECISION} digits, and no more decimals than digits")
        return CanonicalType(name, precision=precision, scale=None if precision is None else scale)
    if name in ("text", "binary"):
        if first == 0:
            raise ValueError(f"{name} needs a length of at least 1")
        return CanonicalType(name, length=first)
    if first is not None and first > 6:
        raise ValueError(f"{name} takes 0 to 6 fractional digits")
    return CanonicalType(name, precision=first)
