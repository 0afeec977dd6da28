"""What a layout reads from, wherever it is kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import BinaryIO


@dataclass(frozen=True)
class SourceFile:
    """A file that can be opened any number of times; ``size`` in bytes when it was first seen."""

    path: str
    size: int
    open: Callable[[], BinaryIO]
