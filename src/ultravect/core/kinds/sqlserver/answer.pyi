from typing import Any

FIXED: int
COUNTED: int
LONG_COUNTED: int
CHUNKED: int
NUMBER: int
DECIMAL: int
DATE: int
TIME: int
MOMENT: int
GUID: int
BYTES: int
UTF16: int

class Rows:
    rows: int
    def __init__(self, described: list[tuple[int, int, int, int]]) -> None: ...
    def take(self, data: Any, start: int, most: int) -> tuple[int, bool]: ...
    def finished(self) -> list[list[bytes | None]]: ...
