"""Whether the numbers of a block are written plainly: what a number parser lets pass would lose how it was written."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from ultravect.core.layouts.delimited.blocks import DelimitedBlock

_LONGEST = 48  # bytes; numbers that are longer are looked at one by one anyway


def _table(characters: bytes) -> npt.NDArray[np.bool_]:
    found = np.zeros(256, np.bool_)
    found[list(characters)] = True
    return found


_SIGNS, _DIGITS, _EXPONENTS = _table(b"+-"), _table(b"0123456789"), _table(b"eE")


def written_plainly(block: DelimitedBlock, position: int, columns: int, *, exponents: bool) -> bool:
    """No leading zeros, no spaces; no exponents unless they are allowed. The block's rows are all whole."""
    buffer = block.padded
    starts, ends = block.field_spans(position, columns)
    first = buffer[starts]
    at = starts
    if block.dialect.quote is not None and (quoted := first == block.dialect.quote).any():
        at = at + quoted
        first = buffer[at]
    if (signed := _SIGNS[first]).any():
        at = at + signed
        first = buffer[at]
    if (first == 0x20).any() or _DIGITS[buffer[at[first == 0x30] + 1]].any():
        return False
    if exponents:
        return True
    longest = int((ends - starts).max(initial=0))
    if longest > _LONGEST:
        return False
    # an exponent has a digit before it
    for offset in range(1, longest):
        place = starts + offset
        if _EXPONENTS[buffer[place[place < ends]]].any():
            return False
    return True
