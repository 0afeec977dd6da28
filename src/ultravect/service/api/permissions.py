"""Who may do what, by role."""

from __future__ import annotations

from typing import Any

from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

from ultravect.service.records.models import Role, Run
from ultravect.service.work.processes.look_pool import asking


def _is_of_jobs(request: Request, view: Any) -> bool:
    """Whether a request starts, or shows, a run of one of the jobs that the token is for."""
    jobs = request.user.only_jobs
    name, number = view.kwargs.get("name"), view.kwargs.get("number")
    if getattr(view, "starts_runs", False) and request.method == "POST":
        return name in jobs
    if getattr(view, "shows_run", False) and request.method in SAFE_METHODS:
        return Run.objects.filter(pk=number, job__name__in=jobs).exists()
    return False


class RolePermission(BasePermission):
    """Reading takes a viewer; anything else the role that the view names in ``writing_role`` (default: editor)."""

    def has_permission(self, request: Request, view: Any) -> bool:
        if not request.user.is_authenticated:
            return False
        asking.set(str(request.user.pk))
        reading = request.method in SAFE_METHODS
        needed = getattr(view, "reading_role", Role.VIEWER) if reading else getattr(view, "writing_role", Role.EDITOR)
        if jobs := request.user.only_jobs:
            self.message = f"this token may only start and see runs of {', '.join(jobs)}"
            able = request.user.is_active and request.user.effective_role.rank >= needed.rank
            return able and _is_of_jobs(request, view)
        self.message = f"this takes the role {needed}; {request.user.username} is {request.user.effective_role}"
        return bool(request.user.may(needed))
