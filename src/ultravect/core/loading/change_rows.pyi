from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

class ChangeRows:
    count: int
    rows: int
    after: int
    skips: bool
    def __init__(self, widths: Sequence[int]) -> None: ...
    def finish(
        self,
    ) -> tuple[
        int,
        list[list[Any]],
        npt.NDArray[np.int8],
        npt.NDArray[np.int64],
        npt.NDArray[np.int64],
        npt.NDArray[np.int64],
        list[tuple[int, int]],
    ]: ...
