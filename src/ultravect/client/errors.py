"""What the client raises."""

from __future__ import annotations

from typing import Any


class ServiceUnreachable(Exception):
    """Nothing answered at the service's address."""


class ApiError(Exception):
    """The service refused; the fields are those of its problem+json body."""

    def __init__(self, status: int, body: dict[str, Any]) -> None:
        self.status = status
        self.code = str(body.get("code", "unknown"))
        self.detail = str(body.get("detail", f"the service answered with status {status}"))
        self.hint = str(body.get("hint") or "")
        self.errors: list[dict[str, Any]] = body.get("errors") or []
        self.where: dict[str, Any] = body.get("where") or {}
        super().__init__(self.detail)
