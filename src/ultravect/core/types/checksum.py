"""Checksums of columns that do not depend on the order of rows, so that those of two sets of rows add up."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.written import plain_text

_BASE = 0x9E3779B97F4A7C15  # odd, so that it has an inverse among numbers of 64 bits
_INVERSE = pow(_BASE, -1, 2**64)
_NULL = np.uint64(0xD6E8FEB86659FD93)
_PIECE = 1 << 20  # bytes of text that are worked on at once
U64 = npt.NDArray[np.uint64]


def is_comparable(kind: CanonicalType) -> bool:
    """Whether a database gives values of a type back just as they came: JSON may come back in another form."""
    return kind.name != "json"


def column_sum(array: pa.Array, kind: CanonicalType) -> int:
    """The sum of a hash of each value, in 64 bits; a NULL has one too."""
    text = plain_text(array)
    if kind.name == "decimal" and kind.precision is None:
        text = pc.replace_substring_regex(text, r"(\.[0-9]*?)0+$", r"\1")
        text = pc.replace_substring_regex(text, r"\.$", "")
    total = int(text.null_count) * int(_NULL)
    values = text.drop_null().cast(pa.binary())
    offsets = np.frombuffer(values.buffers()[1], np.int32, len(values) + 1, values.offset * 4).astype(np.int64)
    data = values.buffers()[2]
    start = 0
    while start < len(values):
        end = max(start + 1, int(np.searchsorted(offsets, offsets[start] + _PIECE, "right")) - 1)
        some = offsets[start : end + 1]
        raw = np.frombuffer(data, np.uint8, int(some[-1] - some[0]), int(some[0])) if data else np.empty(0, np.uint8)
        total += int(_hashes(raw, some - some[0]).sum(dtype=np.uint64))
        start = end
    return total % 2**64


def _hashes(raw: npt.NDArray[np.uint8], offsets: npt.NDArray[np.int64]) -> U64:
    """Of each text its bytes as a number to a base, by the differences of one running sum, then mixed."""
    count = len(raw)
    powers, inverses = _powers(_BASE, count), _powers(_INVERSE, count)
    running = np.zeros(count + 1, np.uint64)
    np.cumsum((raw.astype(np.uint64) + np.uint64(1)) * powers[:count], out=running[1:])
    lengths = np.diff(offsets).astype(np.uint64)
    sums = (running[offsets[1:]] - running[offsets[:-1]]) * inverses[offsets[:-1]]
    mixed = (sums ^ (lengths * np.uint64(_BASE))) + np.uint64(_BASE)
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
        mixed = (mixed ^ (mixed >> np.uint64(shift))) * np.uint64(factor)
    found: U64 = mixed ^ (mixed >> np.uint64(31))
    return found


def _powers(base: int, count: int) -> U64:
    powers = np.full(count + 1, base, np.uint64)
    powers[0] = 1
    return np.cumprod(powers, dtype=np.uint64)
