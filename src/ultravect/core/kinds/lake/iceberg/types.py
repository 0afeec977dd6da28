"""Columns of Iceberg tables as Arrow has them, and their bounds as values."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

import pyarrow as pa
from pyiceberg.conversions import from_bytes
from pyiceberg.io.pyarrow import pyarrow_to_schema, schema_to_pyarrow
from pyiceberg.schema import Schema
from pyiceberg.types import DateType, IcebergType, NestedField, TimestampType, TimestamptzType

_FIELD_ID = "PARQUET:field_id"
_EPOCH = dt.datetime(1970, 1, 1)
_MICROSECOND = dt.timedelta(microseconds=1)
# what Arrow has in a wide and in a plain form
_PLAIN = {pa.large_string(): pa.string(), pa.large_binary(): pa.binary()}


def _plain(held: pa.DataType) -> pa.DataType:
    if pa.types.is_struct(held):
        return pa.struct([field.with_type(_plain(field.type)) for field in held])
    if pa.types.is_map(held):
        return pa.map_(_plain(held.key_type), _plain(held.item_type))
    if pa.types.is_list(held) or pa.types.is_large_list(held):
        return pa.list_(held.value_field.with_type(_plain(held.value_type)))
    return _PLAIN.get(held, held)


def arrow_schema(schema: Schema, *, numbered: bool = False) -> pa.Schema:
    """The columns of a table; ``numbered``: with the numbers by which files name them."""
    fields = []
    for field, column in zip(schema.fields, schema_to_pyarrow(schema, include_field_ids=False), strict=True):
        notes = {"comment": field.doc} if field.doc else {}
        if numbered:
            notes[_FIELD_ID] = str(field.field_id)
        fields.append(pa.field(field.name, _plain(column.type), not field.required, notes or None))
    return pa.schema(fields)


def table_schema(fields: Sequence[pa.Field], first: int) -> Schema:
    """Columns that are to be made, numbered from ``first`` on."""
    numbered = [
        pa.field(field.name, field.type, field.nullable, {_FIELD_ID: str(first + at)})
        for at, field in enumerate(fields)
    ]
    found = pyarrow_to_schema(pa.schema(numbered))
    comments = [(field.metadata or {}).get(b"comment", b"").decode() for field in fields]
    return Schema(
        *(
            NestedField(
                column.field_id, column.name, column.field_type, doc=comment or None, required=column.required
            )
            for column, comment in zip(found.fields, comments, strict=True)
        )
    )


def bounds(schema: Schema, given: Mapping[int, bytes] | None) -> Mapping[str, Any]:
    """Bounds of columns by their names; those that cannot be read are left out."""
    found = {}
    for field in schema.fields:
        raw = (given or {}).get(field.field_id)
        if raw is None or not field.field_type.is_primitive:
            continue
        try:
            found[field.name] = as_value(field.field_type, from_bytes(field.field_type, raw))  # type: ignore[arg-type]
        except (ValueError, OverflowError, TypeError, UnicodeDecodeError):
            continue
    return found


def as_counted(value: Any) -> Any:
    """A date, time or moment as the format counts it: in days or microseconds; see ``as_value``."""
    if isinstance(value, dt.datetime):
        return (value.replace(tzinfo=None) - _EPOCH) // _MICROSECOND
    if isinstance(value, dt.date):
        return (value - _EPOCH.date()).days
    if isinstance(value, dt.time):
        return (dt.datetime.combine(_EPOCH, value) - _EPOCH) // _MICROSECOND
    return value


def as_value(kind: IcebergType, value: Any) -> Any:
    """A date or a moment, which the format counts, as such."""
    if isinstance(value, int) and not isinstance(value, bool):
        if isinstance(kind, DateType):
            return (_EPOCH + dt.timedelta(days=value)).date()
        if isinstance(kind, TimestampType):
            return _EPOCH + dt.timedelta(microseconds=value)
        if isinstance(kind, TimestamptzType):
            return (_EPOCH + dt.timedelta(microseconds=value)).replace(tzinfo=dt.UTC)
    return value
