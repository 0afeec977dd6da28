"""What a service does by itself: starts runs whose time has come, and sends messages. Any number of processes may do so at once."""

from __future__ import annotations

import asyncio
import datetime as dt
import time

import structlog
from django.conf import settings
from django.utils import timezone

from ultravect.service.work.delivery import send_one
from ultravect.service.work.notifying import note_ended, note_late
from ultravect.service.work.recorded import recorded
from ultravect.service.work.retention import remove_old
from ultravect.service.work.schedules import start_after, start_due

log = structlog.get_logger()
_LOOK_SECONDS = 0.5
_AFTER_SECONDS = 1.0
_AT_ONCE = 20
_BETWEEN_SECONDS = 0.2


def _start_some(now: dt.datetime) -> bool:
    """Starts what is due, some at a time; whether there may be more."""
    return all(start_due(now) for _ in range(_AT_ONCE))


async def schedule() -> None:
    """Starts what is due, until cancelled."""
    looked = 0.0
    while True:
        try:
            now = timezone.now()
            while await recorded(_start_some)(now):
                pass
            if time.monotonic() - looked > _AFTER_SECONDS:
                looked = time.monotonic()
                await recorded(start_after)(now)
                while await recorded(note_late)(now):
                    pass
                while await recorded(note_ended)(now):
                    pass
        except Exception:
            log.exception("looking for what is due failed")
        await asyncio.sleep(_LOOK_SECONDS)


async def send_messages() -> None:
    """Sends what there is to send, until cancelled: apart from schedules, which a slow mail server must not keep waiting."""
    while True:
        try:
            while await recorded(send_one)():
                pass
        except Exception:
            log.exception("sending messages failed")
        await asyncio.sleep(_AFTER_SECONDS)


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


async def work_by_itself() -> None:
    """All of it, until cancelled."""
    await asyncio.gather(schedule(), send_messages(), tidy_up())
