"""Whether the connections of a leg have room for one more: `at_most` of a connection, over all workers."""

from __future__ import annotations

from collections import Counter

from ultravect.service.records.models import Connection, Leg, State
from ultravect.service.records.resolved import source_name
from ultravect.service.work.runs.attempts import job_of


def _used(leg: Leg) -> set[str]:
    structure = job_of(leg)
    return {source_name(structure), structure["into"]["connection"]}


def full_connection(leg: Leg) -> Connection | None:
    """The connection that has no room for the leg, None where all have; until the transaction ends, no other leg begins with them."""
    limited = list(
        Connection.objects.select_for_update().filter(name__in=_used(leg), at_most__isnull=False).order_by("pk")
    )
    if not limited:
        return None
    running = Leg.objects.filter(state=State.RUNNING).exclude(pk=leg.pk).select_related("run__revision")
    under_way = Counter(name for other in running for name in _used(other))
    return next((item for item in limited if under_way[item.name] >= (item.at_most or 0)), None)
