"""Types that expressions take from the first rows of a file, so that it need not be read twice: each later value is held
against them, and where one does not fit, the plan is made anew from all of the file."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from ultravect.core.engine.plan.leg_plan import InputPlan
from ultravect.core.layouts.base import Reader, VerifiesTypes, WantedColumn
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import try_cast
from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.inference.column import ColumnInference, has_long_digits
from ultravect.core.types.inference.column_type import ColumnType

TRUSTED_BYTES = 2 << 20
_UNPARSED = frozenset(["text", "date", "time", "timestamp", "timestamptz", "uuid", "boolean"])
# what a later value may be where the first ones were of a type
_WITHIN = {
    "integer": {"integer"},
    "bigint": {"integer", "bigint"},
    "decimal": {"integer", "bigint", "decimal"},
    "double": {"integer", "bigint", "decimal", "double"},
    "timestamp": {"date", "timestamp"},
}


class TypeDrift(Exception):
    """What was planned from the first rows does not hold for all rows; the text says why."""


def may_trust(reader: Reader, found: ColumnType, wanted: WantedColumn) -> bool:
    """Whether the type that the first values say can be held against all others while they are read."""
    if not isinstance(reader, VerifiesTypes) or found.ambiguous or found.values == 0:
        return False
    return reader.parses(wanted) or found.type.name in _UNPARSED


def require_parsed(item: InputPlan, array: pa.Array) -> None:
    """``array`` are values that were plainly of the type; digits beyond 64 bits could yet be a code."""
    if item.sampled and has_long_digits(array):
        raise TypeDrift(f"column {item.source} has digits beyond 64 bits")


def require_within(item: InputPlan, raw: pa.Array) -> None:
    """``raw`` are texts of rows that were not plainly of all their types; TypeDrift where this input's are to blame."""
    if not item.sampled or item.type.name == "text" or not len(raw):
        return
    patterns = (
        (item.formats.date_pattern,) if item.type.name in ("date", "timestamp", "timestamptz") else DATE_PATTERNS
    )
    inference = ColumnInference(item.source, item.formats, patterns)
    inference.add(try_cast(raw, pa.string()).array, np.arange(1, len(raw) + 1))
    found = inference.result()
    if found.values and not _within(found.type, item.type):
        raise TypeDrift(f"column {item.source} was {item.type} in the first rows, and is not later")


def _within(found: CanonicalType, first: CanonicalType) -> bool:
    if found.name not in _WITHIN.get(first.name, {first.name}):
        return False
    if found.name != "decimal" or first.name != "decimal":
        return True
    return (found.precision or 0) <= (first.precision or 0) and (found.scale or 0) <= (first.scale or 0)
