"""Sites: which workers reach which connections, and which work they are given.

A connection may name its site; workers serve sites (`ultravect worker --site lab`). Those that name none serve ``home``, the place of the
service. A connection of local paths without a site is at home; any other one without a site is reached from anywhere, by workers that
reach the records themselves. A worker that joined by a site's token is given connections of its sites, and no others.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kinds
from ultravect.core.model.connection import place_keys
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, WorkerSeen
from ultravect.service.records.moments import last_sign
from ultravect.service.records.resolved import source_name

HOME = "home"
ANYWHERE = "*"
"""In place of the site of a connection that names none; no site is called so."""

SITE_PATTERN = r"^[a-z0-9]([a-z0-9_-]{0,38}[a-z0-9])?$"


def is_local(kind: str, given: Mapping[str, Any]) -> bool:
    """Whether a connection with these settings is a path of one machine."""
    known = kinds().get(kind)
    return known is not None and {key for key in place_keys(known.settings) if given.get(key)} == {"path"}


def site_of(kind: str, given: Mapping[str, Any], site: str) -> str:
    """The site at which a connection is."""
    return site or (HOME if is_local(kind, given) else ANYWHERE)


def sites_of_job(
    structure: Mapping[str, Any], connections: dict[str, Connection | None] | None = None
) -> frozenset[str]:
    """The sites that a worker has to serve to copy a job; ``connections`` keeps those that were looked up."""
    names = source_name(dict(structure)), structure["into"]["connection"]
    return _sites_of(names, connections if connections is not None else {})


def sites_of_target(structure: Mapping[str, Any]) -> frozenset[str]:
    """The sites that a worker has to serve to ask the target of a job."""
    return _sites_of([structure["into"]["connection"]], {})


def _sites_of(names: Iterable[str], known: dict[str, Connection | None]) -> frozenset[str]:
    found = set()
    for name in names:
        if name not in known:
            known[name] = find_connection(name)
        if (connection := known[name]) is not None:
            found.add(site_of(connection.kind, connection.settings, connection.site))
    return frozenset(found)


def sites_of_specs(arguments: Mapping[str, Any]) -> frozenset[str]:
    """The sites of the connections that are among the arguments of a look, or in a task."""
    return frozenset(
        site_of(value["kind"], value["settings"], value["site"])
        for value in arguments.values()
        if isinstance(value, dict) and {"kind", "settings", "site"} <= value.keys()
    )


def may_serve(sites: frozenset[str], served: Iterable[str], *, joined: bool) -> bool:
    """Whether a worker of the sites ``served`` may have what needs ``sites``."""
    return sites <= ({*served} - {HOME} if joined else {*served, ANYWHERE})


def require_own(sites: Iterable[str], task: Mapping[str, Any]) -> None:
    """UltravectError where a task has a connection that is not of these sites: a worker that has joined must not be given it."""
    if other := sites_of_specs(task) - {*sites}:
        raise _not_given(other)


def _not_given(sites: Iterable[str]) -> UltravectError:
    named = ", ".join(sorted({*sites} - {ANYWHERE}))
    return UltravectError(
        "connection-not-given",
        "a worker that joined by HTTPS is given connections of its own sites alone, and "
        + (f"one here is of {named}" if named else "one here names no site"),
        hint="add a connection that names the worker's site for it; or have a worker do it that reaches the service's records",
    )


def live_workers() -> list[WorkerSeen]:
    """Those that have given a sign of life."""
    return list(WorkerSeen.objects.filter(seen_at__gt=last_sign()))


def require_worker(sites: frozenset[str]) -> None:
    """UltravectError where no worker that is running may do what needs all of these sites."""
    named = sites - {ANYWHERE}
    if named <= {HOME}:
        return
    live = live_workers()
    if any(may_serve(sites, worker.sites, joined=worker.joined) for worker in live):
        return
    if any(named <= {*worker.sites} for worker in live):
        raise _not_given(sites - named or named & {HOME})
    shown = " and ".join(sorted(named))
    if len(named) > 1:
        raise UltravectError(
            "no-worker-joins",
            f"no worker that is running reaches both {shown}",
            hint=f"start one that does: ultravect worker {' '.join(f'--site {site}' for site in sorted(named))}",
        )
    raise UltravectError(
        "no-worker-at-site",
        f"no worker of the site {shown} is running",
        hint=f"start one there: ultravect worker --site {shown}",
    )
