from collections.abc import Callable

import pyarrow as pa

BOOL: int
TWO: int
FOUR: int
EIGHT: int
DATE: int
MOMENT: int
TIME: int
UUID: int
BYTES: int
VERSIONED: int
NUMERIC: int
NUMERIC_TEXT: int

def encode_rows(batch: pa.RecordBatch, codes: list[int], scales: list[int]) -> bytes: ...

class RowDecoder:
    def __init__(self, columns: list[tuple[int, int, int]]) -> None: ...
    def take(self, receive: Callable[[int], tuple[int, memoryview]], limit: int) -> int: ...
    def finish(self) -> tuple[int, list[list[bytes | None]], list[tuple[int, int, int | str]]]: ...
