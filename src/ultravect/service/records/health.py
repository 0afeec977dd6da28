"""What is said of the service's health."""

from __future__ import annotations

from typing import Any

from ultravect import __version__

LIVE = {"status": "ok", "version": __version__}
ALIVE_WORKERS = "SELECT count(*) FROM records_workerseen WHERE seen_at > now() - interval '30 seconds'"


def health(workers: int | None) -> tuple[int, dict[str, Any]]:
    """Status and body of the answer; ``workers`` None: the database cannot be asked."""
    if workers is None:
        return 503, {"status": "failing", "version": __version__, "database": "unreachable"}
    status = "ok" if workers else "idle: no worker gives a sign of life"
    return 200, {"status": status, "version": __version__, "database": "ok", "workers": workers}
