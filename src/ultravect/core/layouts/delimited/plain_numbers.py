"""Whether the numbers of a block are written plainly: what a number parser lets pass would lose how it was written."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from ultravect.core.types.spans import Spans

_LONGEST = 48  # bytes; numbers that are longer are looked at one by one anyway


def _table(characters: bytes) -> npt.NDArray[np.bool_]:
    found = np.zeros(256, np.bool_)
    found[list(characters)] = True
    return found


_SIGNS, _EXPONENTS = _table(b"+-"), _table(b"eE")
# behind a zero at the start: a leading zero, or a hexadecimal number
_BEHIND_ZERO = _table(b"0123456789xX")


def written_plainly(spans: Spans, *, exponents: bool, mark: str = ".", scale: int = 0) -> bool:
    """No leading zeros, no hexadecimals, no spaces; no exponents unless they are allowed, and otherwise at most ``scale`` decimals."""
    buffer, starts, ends = spans.buffer, spans.starts, spans.ends
    first = buffer[starts]
    at = starts
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
    for offset in range(longest):
        place = starts + offset
        inside = place < ends
        found = buffer[place[inside]]
        marks = found == ord(mark)
        if _EXPONENTS[found].any() or (marks.any() and ((ends - place)[inside][marks] - 1 > scale).any()):
            return False
    return True
