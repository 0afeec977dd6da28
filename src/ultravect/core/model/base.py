"""The base of every declared structure, and the value types they share."""

from __future__ import annotations

import re
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

_UNITS = {"ms": 0.001, "s": 1.0, "min": 60.0, "h": 3600.0, "d": 86_400.0}
_SIZES = {"kb": 1000, "mb": 1000**2, "gb": 1000**3}
_SIZE = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(kB|KB|MB|GB)\s*$")
_DURATION = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(ms|s|min|h|d)\s*$")
_PERCENT = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*%\s*$")


class Declared(BaseModel):
    """Strict and immutable: unknown keys are errors, and ``"5"`` is not 5."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, populate_by_name=True, defer_build=True)


def duration_seconds(text: str) -> float:
    """Seconds of a duration such as ``30 s``, ``10 min``, ``1 h`` or ``2 d``; ValueError when it is not one."""
    match = _DURATION.match(text)
    if not match:
        raise ValueError("a duration is a number and a unit: 500 ms, 30 s, 10 min, 1 h or 2 d")
    return float(match[1]) * _UNITS[match[2]]


def size_bytes(text: str) -> int:
    """Bytes of a size such as ``500 kB``, ``100 MB`` or ``2 GB``; ValueError when it is not one."""
    match = _SIZE.match(text)
    if not match or not float(match[1]):
        raise ValueError("a size is a number and a unit: 500 kB, 100 MB or 2 GB")
    return int(float(match[1]) * _SIZES[match[2].lower()])


def _duration(value: str) -> str:
    duration_seconds(value)
    return value


def _size(value: str) -> str:
    size_bytes(value)
    return value


def _reject_limit(value: Any) -> Any:
    if isinstance(value, bool) or not isinstance(value, int | str):
        raise ValueError('a count such as 50, or a share of the rows read such as "0.5%"')
    if isinstance(value, int):
        if value < 0:
            raise ValueError("a count of rejects cannot be negative")
        return value
    match = _PERCENT.match(value)
    if not match or float(match[1]) > 100:
        raise ValueError('a count such as 50, or a share of the rows read such as "0.5%"')
    return value


def _single_character(value: str) -> str:
    if len(value.encode()) != 1 or value in "\r\n":
        raise ValueError('one ASCII character, such as "," or ";" or "\\t"')
    return value


Slug = Annotated[
    str,
    Field(pattern=r"^[a-z0-9]([a-z0-9_-]{0,62}[a-z0-9])?$", description="Lower-case letters, digits, - and _."),
]
ParameterName = Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")]
Size = Annotated[str, AfterValidator(_size)]
Duration = Annotated[str, AfterValidator(_duration), Field(examples=["30 s", "10 min", "1 h"])]
RejectLimit = Annotated[
    int | str,
    BeforeValidator(_reject_limit),
    WithJsonSchema(
        {"anyOf": [{"type": "integer", "minimum": 0}, {"type": "string", "pattern": r"^\d+(\.\d+)?\s*%$"}]}
    ),
]
Character = Annotated[str, AfterValidator(_single_character)]


def allowed_rejects(limit: int | str, rows_read: int) -> int:
    """How many rejects ``limit`` allows among ``rows_read`` rows."""
    if isinstance(limit, int):
        return limit
    return int(float(limit.strip().rstrip("%")) * rows_read / 100)
