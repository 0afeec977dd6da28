"""Carries out a stream: takes a process, records what it says, and ends it when the lease is over."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from typing import Any

import structlog
from django.conf import settings

from ultravect.core.errors import UltravectError
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.processes.pool import ENDINGS, gathered
from ultravect.service.work.processes.protocol import Process, Processes, attended
from ultravect.service.work.recorded import opened_connection, recorded
from ultravect.service.work.runs.leases import NOT_ANSWERED
from ultravect.service.work.runs.retrying import TRANSIENT
from ultravect.service.work.runs.transitions import LeaseLost
from ultravect.service.work.streams.leases import StreamLeases
from ultravect.service.work.streams.transitions import StreamRecord

log = structlog.get_logger()
_STOP_GRACE_SECONDS = 10.0
_PASSES = TRANSIENT | {"outcome-unknown", "mark-moved", "log-busy", "worker-lost", "sign-in-failed", "time-limit"}
"""Codes of errors after which a stream is tried again: what was not committed is read once more."""


class StreamExecutor:
    """Carries out streams with the processes of one pool."""

    def __init__(self, pool: Processes, leases: StreamLeases) -> None:
        self._pool, self._leases = pool, leases

    async def execute(self, record: StreamRecord) -> None:
        """Follows a claimed stream until it ends, or is another's."""
        name = record.stream.job.name
        log.info("stream taken", job=name)
        try:
            await self._follow(record)
        except asyncio.CancelledError:
            with suppress(LeaseLost, *NOT_ANSWERED):
                await recorded(record.hand_back)("the service was stopped; it goes on with the next worker")
            raise
        except LeaseLost:
            log.info("stream given up: its lease is over", job=name)
        except OSError as error:
            with suppress(LeaseLost, *NOT_ANSWERED):
                lost = UltravectError("worker-lost", f"the stream's process cannot be reached: {error}")
                await recorded(record.fail)(lost, passes=True)
        except NOT_ANSWERED as error:
            # another one takes it over, or this one, once the lease is over
            log.warning(
                "the records do not answer: the stream is given up", job=name, reason=str(error).partition("\n")[0]
            )
        except Exception as error:
            log.exception("stream failed unexpectedly", job=name)
            unexpected = UltravectError(
                "internal-error", f"unexpected: {type(error).__name__}; the service's log has the details"
            )
            with suppress(LeaseLost, *NOT_ANSWERED):
                await recorded(record.fail)(unexpected, passes=False)

    async def _follow(self, record: StreamRecord) -> None:
        try:
            task = await recorded(task_of_stream)(record)
        except UltravectError as error:
            await recorded(record.fail)(error, passes=False)
            return
        async with attended(self._pool, task) as process:
            await process.send(task)
            loop = asyncio.get_running_loop()
            ends: list[asyncio.TimerHandle] = []

            def give_up() -> None:
                process.stop()
                ends.append(loop.call_later(_STOP_GRACE_SECONDS, process.kill))

            try:
                with self._leases.hold(record, give_up):
                    ending = await _recorded_until_end(record, process)
            finally:
                for end in ends:
                    end.cancel()
        if ending is None:
            await recorded(record.fail)(UltravectError("worker-lost", "the stream's process died"), passes=True)
        elif ending["kind"] == "failed":
            error = UltravectError.from_dict(ending["error"])
            if what := ending.get("paused"):
                await recorded(record.pause)(what, error)
            else:
                await recorded(record.fail)(error, passes=error.code in _PASSES)
        else:
            # it was asked to stop, by a command whose lease is newer; or it has come to its end
            await recorded(record.hand_back)("its process has ended")


async def _recorded_until_end(record: StreamRecord, process: Process) -> dict[str, Any] | None:
    """Records what the process says; what it said last, None where it died without a word."""
    ending = None
    async for events in gathered(process.events()):
        ending = next((event for event in events if event["kind"] in ENDINGS), ending)
        said = [event for event in events if event["kind"] not in ENDINGS]
        if said:
            await recorded(record.note)(said)
    return ending


def task_of_stream(record: StreamRecord) -> dict[str, Any]:
    """What the process is given; secrets are opened here, and go only into its memory."""
    stream = record.stream
    structure = resolved(dict(stream.revision.structure))
    return {
        "kind": "follow",
        "run": f"stream-{stream.pk}",
        "memory": settings.LEG_MEMORY_BYTES,
        "lost_after": settings.LOST_AFTER_SECONDS,
        "job": structure,
        "accepted": list(stream.accepted),
        "source": opened_connection(source_name(structure), structure),
        "target": opened_connection(structure["into"]["connection"]),
    }
