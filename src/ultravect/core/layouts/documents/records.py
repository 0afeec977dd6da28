"""Records of names and values, as JSON, XML and the like give them, into columns."""

from __future__ import annotations

import decimal
import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.errors import UltravectError
from ultravect.core.types.canonical import MAX_PRECISION

Record = Mapping[str, Any]
OWN_TEXT = "\0"
"""The key of what stands in a thing itself, next to its parts: it goes by the name of the thing."""
_ESCAPED = r'["\\\x00-\x1f]'


def as_json(value: Any) -> str:
    """A value that stays nested, as JSON text."""
    text = json.dumps(value, ensure_ascii=False, default=_plain, separators=(",", ":"))
    return text.replace('"\\u0000":', '"text":')


def _plain(value: Any) -> Any:
    if isinstance(value, decimal.Decimal):
        return int(value) if value == value.to_integral_value() and value.adjusted() < 18 else float(value)
    return str(value)


def lists_as_json(array: pa.Array) -> pa.Array:
    """Lists as JSON text, as ``as_json`` writes them; by kernels where their elements are plain."""
    elements = array.flatten()
    words = _words(elements) if elements.null_count == 0 else None
    if words is None:
        return pa.array([None if value is None else as_json(value) for value in array.to_pylist()], pa.string())
    offsets = pc.subtract(array.offsets, array.offsets[0])
    plain = pa.ListArray.from_arrays(offsets, words, mask=array.is_null() if array.null_count else None)
    return pc.binary_join_element_wise("[", pc.binary_join(plain, ","), "]", "")


def _words(elements: pa.Array) -> pa.Array | None:
    """Each element as JSON; None where that takes a closer look."""
    kind = elements.type
    if pa.types.is_integer(kind) or pa.types.is_boolean(kind) or pa.types.is_null(kind):
        return elements.cast(pa.string())
    if pa.types.is_string(kind) and not pc.any(pc.match_substring_regex(elements, _ESCAPED)).as_py():
        return pc.binary_join_element_wise('"', elements, '"', "")
    return None


def flat(record: Record, levels: int, separator: str) -> dict[str, Any]:
    """A record whose nested objects became names of their own; what lies deeper, and lists, become JSON text."""
    found: dict[str, Any] = {}
    _flatten(record, "", levels, separator, found)
    return found


def _flatten(record: Record, prefix: str, levels: int, separator: str, found: dict[str, Any]) -> None:
    for key, value in record.items():
        name = f"{prefix}{key}" if key != OWN_TEXT else prefix.removesuffix(separator)
        if isinstance(value, dict) and value and levels > 0:
            _flatten(value, f"{name}{separator}", levels - 1, separator, found)
        else:
            found[name] = as_json(value) if isinstance(value, dict | list) else value


def names_of(records: Iterable[Record]) -> list[str]:
    """Every name, in the order in which they come first."""
    found: dict[str, None] = {}
    for record in records:
        found.update(dict.fromkeys(record))
    return list(found)


def columns_of(records: Sequence[Record], names: Sequence[str]) -> pa.Table:
    """A column a name; NULL where a record lacks it, text where its values are of several kinds."""
    columns = [column_of([record.get(name) for record in records]) for name in names]
    try:
        return pa.table(columns, names=list(names))
    except UnicodeEncodeError:
        raise _half_a_character() from None


def column_of(values: list[Any]) -> pa.Array:
    """Values as an Arrow array of their own type, or of text."""
    kinds = {type(value) for value in values if value is not None}
    if not kinds:
        return pa.nulls(len(values), pa.string())  # of no type: an integer would have one
    try:
        if kinds <= {int}:
            return pa.array(values, pa.int64())
        if kinds <= {int, decimal.Decimal}:
            return _decimals(values)
        if len(kinds) == 1:
            return pa.array(values)
    except UnicodeEncodeError:
        raise _half_a_character() from None
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        pass
    return words_of(values)


def words_of(values: list[Any]) -> pa.Array:
    """Values of any kinds as texts."""
    try:
        return pa.array([None if value is None else _word(value) for value in values], pa.string())
    except UnicodeEncodeError:
        raise _half_a_character() from None


def _half_a_character() -> UltravectError:
    return UltravectError(
        "json-broken",
        "a text has half of a pair of surrogates, such as \\ud800, which is no character",
        hint="see what has written it: both halves stand together, or the character itself",
    )


def _decimals(values: list[Any]) -> pa.Array:
    array = pa.array([None if value is None else decimal.Decimal(value) for value in values])
    if not (pa.types.is_decimal(array.type) and array.type.precision <= MAX_PRECISION and array.type.scale >= 0):
        raise OverflowError
    return array


def _word(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)
