"""What a service does by itself: starts runs whose time has come, and sends messages. Any number of processes may do so at once."""

from __future__ import annotations

import asyncio
import datetime as dt
import time
from concurrent.futures import ThreadPoolExecutor

import structlog
from django.conf import settings
from django.utils import timezone

from ultravect.service.work.outgoing.delivery import send_one
from ultravect.service.work.outgoing.lineage import send
from ultravect.service.work.outgoing.notifying import note_ended, note_late, note_missing, remind
from ultravect.service.work.outgoing.traces import send_trace
from ultravect.service.work.recorded import apart, recorded
from ultravect.service.work.scheduling.arrivals import start_for_files
from ultravect.service.work.scheduling.retention import remove_old
from ultravect.service.work.scheduling.schedules import start_after, start_due
from ultravect.service.work.scheduling.waiting import look
from ultravect.service.work.streams.kept_logs import look_at_kept_logs

log = structlog.get_logger()
_LOOK_SECONDS = 0.5
_AFTER_SECONDS = 10.0
_BETWEEN_SECONDS = 0.2
_SENDERS = 3
_LOOKERS = 4
_MAX_ENDED = 10_000


async def schedule(
    ended: asyncio.Queue[int], messages: asyncio.Event, arrivals: asyncio.Queue[tuple[int, dt.datetime]]
) -> None:
    """Starts what is due, until cancelled.

    ``ended`` is given the runs whose lineage or trace is to be sent, ``messages`` is set when there are some, ``arrivals`` is given the schedules
    that are for new files only, with their time.
    """
    loop = asyncio.get_running_loop()

    def look_for_files(number: int, moment: dt.datetime) -> None:
        loop.call_soon_threadsafe(arrivals.put_nowait, (number, moment))

    looked = 0.0
    while True:
        try:
            now = timezone.now()
            waiting = await recorded(look)(now)
            if waiting.messages:
                messages.set()
            while waiting.due and await recorded(start_due)(now, look_for_files):
                pass
            while waiting.ended and (numbers := await recorded(note_ended)(now)):
                _keep(ended, numbers)
            while waiting.late and await recorded(note_late)(now):
                pass
            while waiting.expected and await recorded(note_missing)(now):
                pass
            while waiting.reminders and await recorded(remind)(now):
                pass
            # others note runs as well, and may have ended before they looked at what comes after
            if waiting.ended or time.monotonic() - looked > _AFTER_SECONDS:
                looked = time.monotonic()
                await recorded(start_after)(now)
        except Exception:
            log.exception("looking for what is due failed")
        await asyncio.sleep(_LOOK_SECONDS)


def _keep(ended: asyncio.Queue[int], numbers: list[int]) -> None:
    if not (settings.LINEAGE or settings.TRACES):
        return
    for number in numbers:
        if ended.full():
            log.warning("lineage and trace of a run are not sent: too many wait", run=number)
        else:
            ended.put_nowait(number)


async def send_messages(messages: asyncio.Event, threads: ThreadPoolExecutor) -> None:
    """Sends what there is to send when ``messages`` is set, until cancelled.

    One place that does not answer keeps neither schedules nor other messages waiting.
    """
    while True:
        await messages.wait()
        try:
            while await apart(send_one, threads)():
                pass
        except Exception:
            log.exception("sending messages failed")
        messages.clear()


async def tell_others(ended: asyncio.Queue[int], threads: ThreadPoolExecutor) -> None:
    """Sends lineage and traces of runs that have ended, until cancelled."""
    while True:
        number = await ended.get()
        try:
            if settings.LINEAGE:
                await apart(send, threads)(number)
            if settings.TRACES:
                await apart(send_trace, threads)(number)
        except Exception:
            log.exception("sending lineage or traces failed")


async def start_arrived(arrivals: asyncio.Queue[tuple[int, dt.datetime]], threads: ThreadPoolExecutor) -> None:
    """Starts runs for files that have arrived, until cancelled; a place that does not answer keeps only those that are looked at after it."""
    while True:
        number, moment = await arrivals.get()
        try:
            await apart(start_for_files, threads)(number, moment)
        except Exception:
            log.exception("looking for files failed", schedule=number)


async def tidy_up() -> None:
    """Removes what is older than the settings keep it, until cancelled."""
    while True:
        try:
            while await recorded(remove_old)(timezone.now()):
                # others come first
                await asyncio.sleep(_BETWEEN_SECONDS)
        except Exception:
            log.exception("removing old records failed")
        await asyncio.sleep(settings.TIDY_SECONDS)


async def watch_kept_logs(threads: ThreadPoolExecutor) -> None:
    """Looks at what sources keep for streams that are at rest, until cancelled."""
    while True:
        try:
            await apart(look_at_kept_logs, threads)()
        except Exception:
            log.exception("looking at what is kept for streams failed")
        await asyncio.sleep(settings.WATCH_SECONDS)


async def work_by_itself() -> None:
    """All of it, until cancelled."""
    ended: asyncio.Queue[int] = asyncio.Queue(_MAX_ENDED)
    threads = ThreadPoolExecutor(_SENDERS + 1, thread_name_prefix="sending")
    messages = asyncio.Event()
    senders = (send_messages(messages, threads) for _ in range(_SENDERS))
    arrivals: asyncio.Queue[tuple[int, dt.datetime]] = asyncio.Queue()
    looking = ThreadPoolExecutor(_LOOKERS, thread_name_prefix="looking for files")
    lookers = (start_arrived(arrivals, looking) for _ in range(_LOOKERS))
    await asyncio.gather(
        schedule(ended, messages, arrivals),
        *senders,
        *lookers,
        tell_others(ended, threads),
        tidy_up(),
        watch_kept_logs(ThreadPoolExecutor(1, thread_name_prefix="kept logs")),
    )
