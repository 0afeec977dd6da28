"""The audit log: who did what to which connection, job, layout, token or user, and from where."""

from __future__ import annotations

from typing import Any

import structlog
from django.http import HttpRequest

from ultravect.service.records.models import AuditEntry

log = structlog.get_logger()


def address_of(request: HttpRequest) -> str:
    """The network address of the client; with a proxy in front that is trusted, the one that it names."""
    return str(request.META.get("REMOTE_ADDR") or "")


def audit(request: Any, action: str, kind: str, name: str, *, user: str = "", **detail: Any) -> None:
    """Adds an entry, in the transaction that is open; ``request`` is Django's or REST framework's."""
    plain: HttpRequest = getattr(request, "_request", request)
    by = user or getattr(getattr(request, "user", None), "username", "") or ""
    address = address_of(plain)
    AuditEntry.objects.create(
        user=by[:150],
        address=address[:64],
        action=action,
        kind=kind,
        name=name[:200].replace("\0", ""),
        detail=detail,
    )
    log.info("audit", user=by, address=address, action=action, kind=kind, name=name)
