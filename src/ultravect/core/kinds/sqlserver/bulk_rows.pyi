from collections.abc import Sequence

import pyarrow as pa

BOOL: int
NUMBER: int
DECIMAL: int
DATE: int
TIME: int
MOMENT: int
ZONED: int
GUID: int
SHORT_TEXT: int
LONG_TEXT: int
SHORT_BYTES: int
LONG_BYTES: int

def rows_of(
    arrays: Sequence[pa.Array], codes: Sequence[int], widths: Sequence[int], scales: Sequence[int]
) -> bytes: ...
