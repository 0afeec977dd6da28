"""What sources keep of their logs for streams that are paused, stopped or failed: it is looked at as it is while they are under way."""

from __future__ import annotations

import structlog

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import Stream, StreamState
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.processes.look_processes import LookFailed
from ultravect.service.work.recorded import opened_connection
from ultravect.service.work.streams.transitions import give_up

log = structlog.get_logger()
_AT_REST = (StreamState.PAUSED, StreamState.STOPPED, StreamState.FAILED)


def look_at_kept_logs() -> None:
    """Records how much is kept for each of them, and has what is more than ``guard.log_kept`` given up."""
    for stream in Stream.objects.select_related("job", "revision").filter(state__in=_AT_REST):
        structure = resolved(dict(stream.revision.structure))
        if (structure.get("guard") or {}).get("log_kept") is None:
            continue
        try:
            found = POOL.look(
                "guard_log",
                job=structure,
                source=opened_connection(source_name(structure), structure),
                target=opened_connection(structure["into"]["connection"]),
            )
        except (UltravectError, LookFailed) as error:
            log.warning("what is kept for a stream could not be looked at", job=stream.job.name, cause=str(error))
            continue
        Stream.objects.filter(pk=stream.pk, lease=stream.lease).update(log_kept=found["bytes"])
        if found["error"] is not None:
            give_up(stream, UltravectError.from_dict(found["error"]))
