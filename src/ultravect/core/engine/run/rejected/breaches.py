"""What the target's columns would not take of converted values, found before they are sent."""

from __future__ import annotations

import re

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.types.arrow import as_text, beyond_four_digits

_CONTROL = r"[\x01-\x08\x0b\x0c\x0e-\x1f]"


_NATIVE_LENGTH = re.compile(r"\((\d+)\)$")
_NATIVE_DIGITS = re.compile(r"\((\d+),\s*(\d+)\)$")


def breaches(
    array: pa.Array, column: ColumnPlan, has_nul: bool, refuses: frozenset[str]
) -> list[tuple[str, pa.Array]]:
    """What the target's column would not take of converted values: reasons, each with a mask.

    ``refuses``: what the target takes in no column, as its dialect says.
    """
    found: list[tuple[str, pa.Array]] = []
    kind = column.type
    if not column.nullable and array.null_count:
        found.append(("no value, and the target's column takes no NULL", array.is_null()))
    elif column.key and array.null_count:
        found.append(("no value in a column of into.keys", array.is_null()))
    if pa.types.is_string(array.type):
        if kind.length is not None:
            found.append((f"longer than {kind.length} characters", pc.greater(pc.utf8_length(array), kind.length)))
        if "many bytes" in refuses and (room := _NATIVE_LENGTH.search(column.native)):
            found.append((f"longer than {int(room[1]):,} bytes", pc.greater(pc.binary_length(array), int(room[1]))))
        if has_nul and "nul" in refuses:
            found.append(("has a NUL character, which the target cannot store", pc.match_substring(array, "\0")))
        if kind.name == "decimal" and (limit := _NATIVE_DIGITS.search(column.native)):
            before, after = int(limit[1]) - int(limit[2]), int(limit[2])
            fits = pc.match_substring_regex(array, rf"^-?0*[0-9]{{0,{before}}}(?:\.[0-9]{{0,{after}}}0*)?$")
            reason = f"more than {before} digits before the decimal mark, or {after} after it"
            found.append((reason, pc.invert(fits)))
    if "long numbers" in refuses and kind.name == "decimal" and "TEXT" not in column.native.upper():
        bare = pc.replace_substring_regex(as_text(array), r"(\.[0-9]*?)0+$", r"\1")
        digits = pc.replace_substring_regex(pc.replace_substring(bare, ".", ""), r"^-?0*", "")
        found.append(("more than 15 digits, which the target would round", pc.greater(pc.utf8_length(digits), 15)))
    if pa.types.is_binary(array.type) and kind.length is not None:
        found.append((f"longer than {kind.length} bytes", pc.greater(pc.binary_length(array), kind.length)))
    if pa.types.is_floating(array.type) and "not finite" in refuses:
        found.append(("no finite number, which the target cannot store", pc.invert(pc.is_finite(array))))
    if pa.types.is_string(array.type) and "control characters" in refuses:
        found.append(
            ("has a control character, which the target cannot store", pc.match_substring_regex(array, _CONTROL))
        )
    if pa.types.is_string(array.type) and "long texts" in refuses:
        found.append(("longer than 32,767 characters", pc.greater(pc.utf8_length(array), 32_767)))
    if "long integers" in refuses and kind.name == "bigint":
        found.append(("more than 15 digits, which the target would round", pc.greater(pc.abs(array), 10**15 - 1)))
    if "early years" in refuses and (pa.types.is_date(array.type) or pa.types.is_timestamp(array.type)):
        found.append(("a day before 1900, which the target cannot store", pc.less(pc.year(array), 1900)))
    if "far years" in refuses and beyond_four_digits(array):
        year = pc.year(array)
        far = pc.or_(pc.less(year, 1), pc.greater(year, 9999))
        found.append(("a year that the target cannot store: it takes 1 to 9999", far))
    if kind.precision is not None and kind.precision < 6 and kind.name in ("time", "timestamp", "timestamptz"):
        step = 10 ** (6 - kind.precision)
        ticks = array.cast(pa.int64())
        rest = pc.subtract(ticks, pc.multiply(pc.divide(ticks, step), step))
        found.append((f"more than {kind.precision} fractional digits of seconds", pc.not_equal(rest, 0)))
    return found
