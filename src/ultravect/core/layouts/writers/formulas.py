"""Texts that a spreadsheet would compute, in files of text that persons open: written with a ' in front."""

from __future__ import annotations

import re

import pyarrow as pa
import pyarrow.compute as pc

# what spreadsheets take for the start of a formula, in letters of full width as well; and what looks so and is a plain number, or a
# telephone number
_LIVE = "^[=+\\-@\\t\\r\\n\uff1d\uff0b\uff0d\uff20]"
_NUMBER = r"^[+\-][0-9][0-9 ]*([.,][0-9]+)?([eE][+\-]?[0-9]+)?$"


def guarded(array: pa.Array) -> tuple[pa.Array, int]:
    """Texts with a ' before those that would be computed, and how many these are."""
    live = pc.and_not(pc.match_substring_regex(array, _LIVE), pc.match_substring_regex(array, _NUMBER))
    count = pc.sum(live).as_py() or 0
    return (pc.if_else(live, pc.binary_join_element_wise("'", array, ""), array) if count else array), count


def guarded_text(text: str) -> str:
    """The same for one text."""
    return f"'{text}" if re.match(_LIVE, text) and not re.match(_NUMBER, text) else text
