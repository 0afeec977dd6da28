"""The demo's nights before today, in a service whose clock is set back for them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import unquote, urlsplit

import psycopg
from demo import nights
from demo.load import declare

from devtools.clock import VARIABLE, SetClock
from devtools.places import Places
from devtools.postgres import free_port
from devtools.stack import Stack
from ultravect.client import Client

_OFFICE = "valley-office"


def begin(file: Path, count: int, settings: Mapping[str, str]) -> tuple[SetClock, dict[str, str]]:
    """A clock that shows the day before the first night, and the settings of a service that goes by it."""
    file.parent.mkdir(parents=True, exist_ok=True)
    clock = SetClock(file)
    first = nights.days(count, dt.datetime.now(dt.UTC))[0]
    clock.to(dt.datetime.combine(first - dt.timedelta(days=1), dt.time(16, 0), nights.ZONE))
    return clock, {**settings, VARIABLE: str(file)}


def live_nights(stack: Stack, places: Places, client: Client, clock: SetClock, count: int, rows: int = 4000) -> None:
    """Declares all of the demo, lives through its nights, and comes back to the machine's time."""
    server = urlsplit(stack.postgres.url("survey"))
    stack.postgres.execute("CREATE DATABASE survey")
    stack.postgres.execute(nights.SURVEY, "survey")
    office = {
        "host": "127.0.0.1",
        "port": server.port,
        "database": "survey",
        "user": server.username or "",
        "tls": "off",
    }
    password = unquote(server.password or "")
    declared = places.connections(stack.files) | {_OFFICE: ("postgresql", {**office, "password": password})}
    client.save_notify_rule("wardens", ["failed", "recovered", "late"], mail=["wardens@huts.example"])
    declare(client, stack.files, stack.warehouse, rows, declared)

    def before(number: int, day: dt.date, bad: bool) -> None:
        places.another_night()
        with psycopg.connect(stack.postgres.url("survey")) as session:
            session.cursor().executemany(
                "INSERT INTO survey VALUES (%s, %s, %s, %s, %s)", nights.answers(number, day)
            )
        if bad:
            # the server is switched off: nothing listens there any more
            client.change_connection(_OFFICE, {"port": free_port(), "password": password})

    days = nights.days(count, dt.datetime.now(dt.UTC))
    nights.live(days, stack.files, to=clock.to, settle=lambda: clock.settle(stack), before=before)
    clock.back()
    clock.settle(stack)
