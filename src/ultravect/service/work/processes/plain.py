"""Values of databases as JSON."""

from __future__ import annotations

import datetime as dt
import decimal
import uuid
from typing import Any


def plain(value: Any) -> Any:
    """A database value as JSON: numbers that JSON would round, and everything without a form there, as text."""
    match value:
        case None | bool() | str():
            return value
        case int():
            return value if -(2**53) < value < 2**53 else str(value)
        case float():
            return value if value == value and abs(value) != float("inf") else str(value)
        case decimal.Decimal():
            return format(value, "f")
        case dt.datetime():
            return value.isoformat(" ")
        case dt.date() | dt.time():
            return value.isoformat()
        case bytes() | memoryview():
            return "\\x" + bytes(value).hex()
        case uuid.UUID():
            return str(value)
        case list() | tuple():
            return [plain(item) for item in value]
        case dict():
            return {str(key): plain(item) for key, item in value.items()}
    return str(value)
