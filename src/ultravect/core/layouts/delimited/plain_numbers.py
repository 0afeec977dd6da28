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


_SIGNS, _EXPONENTS, _LINE_ENDS = _table(b"+-"), _table(b"eE"), _table(b"\r\n")
# behind a zero at the start: a leading zero, or a hexadecimal number
_BEHIND_ZERO = _table(b"0123456789xX")


def written_plainly(
    block: DelimitedBlock, position: int, columns: int, *, exponents: bool, mark: str = ".", scale: int = 0
) -> bool:
    """No leading zeros, no hexadecimals, no spaces; no exponents unless they are allowed, and otherwise at most ``scale`` decimals.

    The block's rows are all whole.
    """
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
    if (first == 0x20).any() or _BEHIND_ZERO[buffer[at[first == 0x30] + 1]].any():
        return False
    if exponents:
        return True
    longest = int((ends - starts).max(initial=0))
    if longest > _LONGEST:
        return False
    for edge in (_LINE_ENDS, _LINE_ENDS, _table(bytes([block.dialect.quote])) if block.dialect.quote else _LINE_ENDS):
        ends = ends - (edge[buffer[ends - 1]] & (ends > starts))
    for offset in range(longest):
        place = starts + offset
        inside = place < ends
        found = buffer[place[inside]]
        marks = found == ord(mark)
        if _EXPONENTS[found].any() or (marks.any() and ((ends - place)[inside][marks] - 1 > scale).any()):
            return False
    return True
