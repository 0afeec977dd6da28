"""Casts Arrow arrays with a mask of the values that do not cast."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Converted:
    """``array`` has NULL where ``failed`` is true."""

    array: pa.Array
    failed: Mask


def as_mask(mask: pa.BooleanArray) -> Mask:
    """An Arrow mask as numpy; NULL counts as false."""
    return np.asarray(mask.fill_null(False).to_numpy(zero_copy_only=False), dtype=np.bool_)


def try_cast(values: pa.Array, target: pa.DataType) -> Converted:
    """Casts what can be cast, halving on failure."""
    try:
        return Converted(pc.cast(values, target), np.zeros(len(values), dtype=np.bool_))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        if len(values) == 1:
            return Converted(pa.nulls(1, target), np.ones(1, dtype=np.bool_))
    half = len(values) // 2
    left, right = try_cast(values.slice(0, half), target), try_cast(values.slice(half), target)
    return Converted(pa.concat_arrays([left.array, right.array]), np.concatenate([left.failed, right.failed]))


def all_true(mask: pa.Array) -> bool:
    return bool(pc.all(mask, min_count=0).as_py())


def cast_matching(values: pa.Array, regex: str, target: pa.DataType) -> Converted:
    """Casts the values that match ``regex`` as a whole; the others have failed."""
    if not (pa.types.is_integer(target) or pa.types.is_string(target)):
        # what these casts take, the patterns take too, so there is no need to look when all goes well; a cast to an
        # integer takes hexadecimals, and one to a string takes anything
        with suppress(pa.ArrowInvalid):
            return Converted(pc.cast(values, target), np.zeros(len(values), dtype=np.bool_))
    matching = pc.match_substring_regex(values, f"^(?:{regex})$")
    misfits = as_mask(pc.invert(matching))
    if misfits.any():
        values = pc.if_else(matching, values, pa.scalar(None, values.type))
    cast = try_cast(values, target)
    return Converted(cast.array, cast.failed | misfits)
