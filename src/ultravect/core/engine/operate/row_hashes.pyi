from typing import Any

import numpy as np
import numpy.typing as npt

def siphash_of(first: int, second: int, data: bytes) -> int: ...
def add_column(
    hashes: npt.NDArray[np.uint64], first: int, second: int, valid: Any, offsets: Any, values: Any, width: int
) -> None: ...
