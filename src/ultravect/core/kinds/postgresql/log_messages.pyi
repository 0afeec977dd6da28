from collections.abc import Callable
from typing import Any

from ultravect.core.loading.change_rows import ChangeRows

class MessageDecoder:
    relations: dict[int, ChangeRows]
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
