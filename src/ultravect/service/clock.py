"""The time by which the service lives: the machine's, unless a test has it be another one."""

from __future__ import annotations

import datetime as dt
import os

from django.utils import timezone

_NAME = "ULTRAVECT_TEST_CLOCK"


def keep_time() -> None:
    """Where the variable ULTRAVECT_TEST_CLOCK names a file, has it be so many seconds later as that says, for all that asks Django."""
    if os.environ.get(_NAME):
        machine = timezone.now

        def now() -> dt.datetime:
            return machine() + ahead()

        timezone.now = now


def ahead() -> dt.timedelta:
    """How much later than the machine's the time is that a test has set."""
    path = os.environ.get(_NAME)
    if not path:
        return dt.timedelta()
    try:
        with open(path, encoding="ascii") as file:
            return dt.timedelta(seconds=float(file.read() or 0))
    except (OSError, ValueError):
        return dt.timedelta()
