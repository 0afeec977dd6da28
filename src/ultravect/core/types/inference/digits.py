"""The digits of numbers in text: what distinguishes a code from a number, and a measured number from an exact one."""

from __future__ import annotations

import decimal
import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_EXACT = decimal.Context(prec=400)
_LEADING_ZERO = r"^[+-]?0[0-9]+$"
_LONG = r"^[+-]?[0-9]{19,}$"
_EXPONENT = r"^[+-]?[0-9.,]+[eE]"


@dataclass(frozen=True)
class Digits:
    """The first value with a leading zero, and the first whole number beyond 64 bits, by place; and the most decimals."""

    leading_zeros: int | None
    beyond_64_bits: int | None
    has_exponent: bool
    decimals: int


def digits_of(values: pa.Array, mark: str) -> Digits:
    """``values`` are trimmed and none is NULL; ``mark`` stands before decimals."""
    at = pc.find_substring(values, mark)
    after = pc.subtract(pc.subtract(pc.binary_length(values), at), 1)
    decimals = int(pc.max(pc.if_else(pc.greater_equal(at, 0), after, 0)).as_py())
    long = np.flatnonzero(pc.match_substring_regex(values, _LONG).to_numpy(zero_copy_only=False))
    beyond = next((int(place) for place in long if not _in_64_bits(values[int(place)].as_py())), None)
    zeros = pc.index(pc.match_substring_regex(values, _LEADING_ZERO), True).as_py()
    has_exponent = bool(pc.any(pc.match_substring_regex(values, _EXPONENT)).as_py())
    return Digits(None if zeros < 0 else zeros, beyond, has_exponent, decimals)


def digits_of_few(texts: Sequence[str], mark: str) -> Digits:
    """The same without kernels, whose calls cost more than to look at a few values."""
    zeros = next((place for place, text in enumerate(texts) if re.match(_LEADING_ZERO, text)), None)
    beyond = next(
        (place for place, text in enumerate(texts) if re.match(_LONG, text) and not _in_64_bits(text)), None
    )
    has_exponent = any(re.match(_EXPONENT, text) for text in texts)
    decimals = max((len(text) - text.find(mark) - 1 for text in texts if mark in text), default=0)
    return Digits(zeros, beyond, has_exponent, decimals)


def _in_64_bits(text: str) -> bool:
    return len(text) <= 25 and -(2**63) <= int(text) < 2**63


def held_by_double(text: str) -> bool:
    """Whether a number is written as a double is: with the digits that distinguish it, or with more of its own."""
    try:
        number = decimal.Decimal(text)
        held = float(number)
        if not number.is_finite() or decimal.Decimal(repr(held)) == number:
            return True
        return decimal.Decimal(held).quantize(number, context=_EXACT) == number
    except (decimal.InvalidOperation, OverflowError):
        return False
