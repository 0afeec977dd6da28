"""What the core raises: one exception with a stable code, what went wrong, where, and what to do about it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


class UltravectError(Exception):
    """A failure said to the user.

    ``code`` is stable and documented; ``detail`` says what was being done, to which object, and why it failed;
    ``hint`` says what to do. ``where`` holds the place as data: connection, object, row, column, line, value.
    ``outcome`` is what the failed load left in the target, "" where the place of the failure already says it.
    """

    outcome: str = ""
    phase: str = ""
    """The phase of a leg in which it began, where it was raised in one."""

    def __init__(self, code: str, detail: str, *, hint: str = "", **where: Any) -> None:
        super().__init__(detail)
        self.code = code
        self.detail = detail
        self.hint = hint
        self.where = {key: value for key, value in where.items() if value is not None}

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> UltravectError:
        """The error that ``as_dict`` has described."""
        return cls(data["code"], data["detail"], hint=data.get("hint") or "", **(data.get("where") or {}))

    def as_dict(self) -> dict[str, Any]:
        return {"code": self.code, "detail": self.detail, "hint": self.hint, "where": self.where}


class StopRequested(Exception):
    """Raised inside a leg when it was asked to stop, so that its transaction is rolled back on the way out."""
