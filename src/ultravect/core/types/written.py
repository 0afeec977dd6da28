"""Arrow values as text, by kernels: as SQL databases and files of text read them."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.arrow import as_text
from ultravect.core.types.hexadecimal import hex_text, uuid_text


def plain_text(array: pa.Array, *, bytes_mark: str = "") -> pa.Array:
    """Values as SQL literals would be written, without quotes: booleans as words, moments in UTC without their zone.

    ``bytes_mark`` stands in front of hexadecimal digits.
    """
    kind = array.type
    if pa.types.is_string(kind):
        return array
    if kind == pa.binary(16):
        return uuid_text(array)
    if pa.types.is_binary(kind):
        return pc.binary_join_element_wise(bytes_mark, hex_text(array), "")
    if pa.types.is_decimal(kind):
        return as_text(array)
    if pa.types.is_timestamp(kind) and kind.tz:
        array = array.cast(pa.timestamp("us"))
    return array.cast(pa.string())
