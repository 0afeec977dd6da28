"""Sites: which workers reach which connections, and the queues by which they get what they can do.

A connection may name its site; workers serve sites (`ultravect worker --site lab`). Those that name none serve ``home``, the place of the service.
A connection without a site is reached from everywhere, but for one of local paths, which is at home.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from itertools import combinations
from typing import Any

from django.conf import settings
from django.utils import timezone

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kinds
from ultravect.core.model.connection import place_keys
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, WorkerSeen
from ultravect.service.records.resolved import source_name

HOME = "home"
SITE_PATTERN = r"^[a-z0-9]([a-z0-9_-]{0,38}[a-z0-9])?$"


def is_local(kind: str, given: Mapping[str, Any]) -> bool:
    """Whether a connection with these settings is a path of one machine."""
    known = kinds().get(kind)
    return known is not None and {key for key in place_keys(known.settings) if given.get(key)} == {"path"}


def site_of(kind: str, given: Mapping[str, Any], site: str) -> frozenset[str]:
    """The site at which a connection is; none where it is reached from everywhere."""
    return frozenset([site]) if site else frozenset([HOME]) if is_local(kind, given) else frozenset()


def sites_of_job(
    structure: Mapping[str, Any], connections: dict[str, Connection | None] | None = None
) -> frozenset[str]:
    """The sites that a worker has to serve to copy a job; ``connections`` keeps those that were looked up."""
    known = connections if connections is not None else {}
    found: frozenset[str] = frozenset()
    for name in (source_name(dict(structure)), structure["into"]["connection"]):
        if name not in known:
            known[name] = find_connection(name)
        if (connection := known[name]) is not None:
            found |= site_of(connection.kind, connection.settings, connection.site)
    return found


def sites_of_look(arguments: Mapping[str, Any]) -> frozenset[str]:
    """The sites that a look has to reach: those of the connections among its arguments."""
    specs = [
        value
        for value in arguments.values()
        if isinstance(value, dict) and {"kind", "settings", "site"} <= value.keys()
    ]
    return frozenset[str]().union(*(site_of(spec["kind"], spec["settings"], spec["site"]) for spec in specs))


def queue_for(base: str, sites: frozenset[str]) -> str:
    """The queue of tasks that need these sites."""
    return base if sites <= {HOME} else f"{base}@{'+'.join(sorted(sites))}"


def queues_of(base: str, served: Iterable[str]) -> list[str]:
    """The queues from which a worker of these sites takes tasks: a task needs two sites at most."""
    names = sorted(set(served))
    sets = [frozenset([name]) for name in names] + [frozenset(pair) for pair in combinations(names, 2)]
    return [queue_for(base, sites) for sites in sets]


def live_workers() -> list[WorkerSeen]:
    """Those that have given a sign of life."""
    since = timezone.now() - dt.timedelta(seconds=settings.LOST_AFTER_SECONDS)
    return list(WorkerSeen.objects.filter(seen_at__gt=since))


def require_worker(sites: frozenset[str]) -> None:
    """UltravectError where no worker that is running serves all of these sites."""
    if sites <= {HOME} or any(sites <= set(worker.sites) for worker in live_workers()):
        return
    named = " and ".join(sorted(sites))
    if len(sites) > 1:
        raise UltravectError(
            "no-worker-joins",
            f"no worker that is running reaches both {named}",
            hint=f"start one that does: ultravect worker {' '.join(f'--site {site}' for site in sorted(sites))}",
        )
    raise UltravectError(
        "no-worker-at-site",
        f"no worker of the site {named} is running",
        hint=f"start one there: ultravect worker --site {named}",
    )
