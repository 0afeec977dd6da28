"""Who may do what, by role."""

from __future__ import annotations

from typing import Any

from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

from ultravect.service.records.models import Role


class RolePermission(BasePermission):
    """Reading takes a viewer; anything else the role that the view names in ``writing_role`` (default: editor)."""

    def has_permission(self, request: Request, view: Any) -> bool:
        if not request.user.is_authenticated:
            return False
        reading = request.method in SAFE_METHODS
        needed = getattr(view, "reading_role", Role.VIEWER) if reading else getattr(view, "writing_role", Role.EDITOR)
        self.message = f"this takes the role {needed}; {request.user.username} is {request.user.effective_role}"
        return bool(request.user.may(needed))
