from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

class RelationRows:
    count: int
    rows: int
    after: int
    skips: bool
    def __init__(self, count: int) -> None: ...
    def finish(
        self,
    ) -> tuple[
        int,
        list[list[bytes | None]],
        npt.NDArray[np.int8],
        npt.NDArray[np.int64],
        npt.NDArray[np.int64],
        npt.NDArray[np.int64],
        list[tuple[int, int]],
    ]: ...

class MessageDecoder:
    relations: dict[int, RelationRows]
    end: int
    moment: int
    reached: int
    position: int
    committed_at: int
    size: int
    rows: int
    inside: bool
    asked: bool
    changed: bool
    transaction: int
    def __init__(self, begins: Callable[[int, int], Any]) -> None: ...
    def renew(self) -> None: ...
    def take(
        self, receive: Callable[[int], tuple[int, memoryview]], most_bytes: int, most_rows: int
    ) -> tuple[int, bytes]: ...
