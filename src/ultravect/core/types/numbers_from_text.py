"""Converts text to numbers: signs, marks between thousands, decimal marks, exponents."""

from __future__ import annotations

import decimal
import re
from contextlib import suppress

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Converted, all_true, as_mask, cast_matching, try_cast
from ultravect.core.types.text_formats import TextFormats

NUMBER = r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)"
_SPECIAL = r"[+-]?(?i:nan|inf|infinity)"
_MOST_PLACES = 80


def _without_signs(values: pa.Array, signs: tuple[str, ...]) -> pa.Array:
    any_sign = "|".join(re.escape(sign) for sign in signs)
    if not pc.any(pc.match_substring_regex(values, any_sign), min_count=0).as_py():
        return values
    values = pc.replace_substring_regex(values, rf"^([+-]?)(?:{any_sign})\s*([+-]?)([0-9.,])", r"\1\2\3")
    return pc.replace_substring_regex(values, rf"([0-9.,])\s*(?:{any_sign})$", r"\1")


def _with_minus_first(values: pa.Array) -> pa.Array:
    """12.50- and (12.50) as -12.50, and the minus of typography as that of keyboards."""
    if not pc.any(pc.match_substring_regex(values, r"^\(|-$|\x{2212}"), min_count=0).as_py():
        return values
    values = pc.replace_substring(values, "\N{MINUS SIGN}", "-")
    values = pc.replace_substring_regex(values, r"^\(\s*([^-+()]*[0-9][^-+()]*)\)$", r"-\1")
    return pc.replace_substring_regex(values, r"^([^-+()]*[0-9][^-+()]*?)\s*-$", r"-\1")


def _plain_number(values: pa.Array, formats: TextFormats) -> pa.Array:
    if formats.type_is_given:
        values = _with_minus_first(values)
    if formats.signs:
        values = _without_signs(values, formats.signs)
        if formats.type_is_given:
            values = _with_minus_first(values)
    if formats.thousands:
        mark, point = re.escape(formats.thousands), re.escape(formats.decimal_mark)
        grouped = pc.match_substring_regex(
            values, rf"^[+-]?[0-9]{{1,3}}(?:{mark}[0-9]{{2,3}})*{mark}[0-9]{{3}}(?:{point}[0-9]*)?$"
        )
        if as_mask(grouped).any():
            values = pc.if_else(grouped, pc.replace_substring(values, formats.thousands, ""), values)
    if formats.decimal_mark != ".":
        # a point in such a file is no decimal mark; it must not pass as one
        values = pc.replace_substring(values, ".", "\N{NO-BREAK SPACE}")
        values = pc.replace_substring(values, formats.decimal_mark, ".")
    if as_mask(pc.starts_with(values, "+")).any():
        values = pc.replace_substring_regex(values, r"^\+", "")
    return values


def to_integer(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    if all_true(pc.ascii_is_decimal(values)):
        return try_cast(values, wanted.arrow)
    plain = _plain_number(values, formats)
    cast = cast_matching(plain, r"-?[0-9]+", wanted.arrow)
    if formats.type_is_given and cast.failed.any():
        # 3.000 may be three thousand
        whole = pc.replace_substring_regex(without_exponents(plain), r"^([+-]?[0-9]+)\.(?:0{0,2}|0{4,})$", r"\1")
        cast = cast_matching(whole, r"-?[0-9]+", wanted.arrow)
    return cast


def without_exponents(values: pa.Array) -> pa.Array:
    """Numbers with exponents as plain ones, before they are cast to decimals: there, the library loses small ones without a
    word, and crashes on exponents without end. Those beyond any decimal become a word that is no number."""
    mask = pc.match_substring_regex(values, r"^[+-]?[0-9.]+[eE]")
    found = as_mask(mask)
    if not found.any():
        return values
    plain = pa.array([_plain_decimal(text) for text in values.filter(pa.array(found)).to_pylist()], values.type)
    return pc.replace_with_mask(values, pa.array(found), plain)


def _plain_decimal(text: str) -> str:
    try:
        number = decimal.Decimal(text)
    except decimal.InvalidOperation:
        return text
    beyond = not number.is_finite() or abs(number.adjusted()) > _MOST_PLACES or len(number.as_tuple().digits) > 80
    return "beyond" if beyond and number else format(number.normalize() if number else decimal.Decimal(0), "f")


def to_decimal(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    plain = _plain_number(values, formats)
    if wanted.precision is not None:
        plain = without_exponents(plain)
    if wanted.precision is None:
        return cast_matching(plain, NUMBER + r"(?:[eE][+-]?[0-9]{1,3})?", pa.string())
    has_zeros = pc.match_substring_regex(plain, r"\.[0-9]*0$")
    if as_mask(has_zeros).any():
        # 1.500 fits two decimals: zeros at the end carry nothing; .0 has to keep one
        whole = pc.replace_substring_regex(plain, r"^([+-]?)\.", r"\10.")
        plain = pc.if_else(has_zeros, pc.replace_substring_regex(whole, r"\.?0+$", ""), plain)
    with suppress(pa.ArrowInvalid):
        return Converted(pc.cast(plain, wanted.arrow), np.zeros(len(plain), dtype=np.bool_))
    # where digits are too many for many values, halving would look at each of them alone
    scale = wanted.scale or 0
    before = max(wanted.precision - scale, 0)
    too_long = as_mask(pc.match_substring_regex(plain, rf"\.[0-9]{{{scale + 1}}}|^[+-]?0*[1-9][0-9]{{{before}}}"))
    if too_long.any():
        plain = pc.if_else(pa.array(too_long), pa.scalar(None, plain.type), plain)
    cast = cast_matching(plain, NUMBER + r"(?:[eE][+-]?[0-9]{1,3})?", wanted.arrow)
    return Converted(cast.array, cast.failed | too_long)


def to_floating(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    plain = _plain_number(values, formats)
    cast = cast_matching(plain, NUMBER + r"(?:[eE][+-]?[0-9]+)?|" + _SPECIAL, wanted.arrow)
    infinite = pc.is_inf(cast.array)
    if not as_mask(infinite).any():
        return cast
    # infinite is what was written so, not what is too large to hold
    overflow = pc.and_(infinite, pc.invert(pc.match_substring_regex(plain, f"^(?:{_SPECIAL})$")))
    array = pc.if_else(overflow, pa.scalar(None, wanted.arrow), cast.array)
    return Converted(array, cast.failed | as_mask(overflow))
