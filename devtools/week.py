"""A week of nights in a minute: schedules by a clock that is set forward, with what goes wrong in a real one.

Night by night: all is well; a file comes late; the reservations' database is down for two hours; a column is new; no service runs; and all
is well again. What ran, what was said and what the first page shows is printed, and ``./dev week --pictures FOLDER`` keeps the page of one morning.
"""

from __future__ import annotations

import datetime as dt
import shutil
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from zoneinfo import ZoneInfo

from standins.messages import MailCatcher

from devtools.browser import chromium
from devtools.clock import VARIABLE, SetClock
from devtools.postgres import PostgresServer
from devtools.stack import USER, Stack
from ultravect.client import Client, Run

ZONE = ZoneInfo("Europe/Zurich")
_FIRST = dt.date(2027, 6, 7)
_RESERVATIONS = (
    "CREATE TABLE booking (booking_id int PRIMARY KEY, hut_code text, guest_id int, arrival date, nights int)",
    "CREATE TABLE guest (guest_id int PRIMARY KEY, name text, town text)",
)
_UNSENT = "SELECT count(*) FROM records_message WHERE sent_at IS NULL"
_GATHER_SECONDS = 60
"""By the clock that is set: however slow the machine is, failures of one cause become one message."""

_JOBS = {
    "bookings": """
from: {connection: reservations, table: booking}
into: {connection: warehouse, table: bookings, mode: upsert, keys: [booking_id], if_different: widen}
run:
  schedule: [{cron: "0 2 * * *", timezone: Europe/Zurich}, {cron: "0 5 * * *", timezone: Europe/Zurich}]
  due: "04:00"
""",
    "guests": """
from: {connection: reservations, table: guest}
into: {connection: warehouse, table: guests, mode: overwrite}
run: {schedule: {cron: "0 2 * * *", timezone: Europe/Zurich}}
""",
    "occupancy": """
from: {connection: warehouse, query: "SELECT hut_code, arrival, count(*) AS bookings FROM bookings GROUP BY 1, 2"}
into: {connection: warehouse, table: occupancy, mode: overwrite}
run: {after: [bookings, guests]}
""",
    "weigh-slips": """
from: {connection: incoming, files: "slips-{run_date}.csv", layout: {format: delimited, delimiter: ","}}
columns: [hut_code, "kilograms decimal(8,2)"]
into: {connection: warehouse, table: slips}
run: {schedule: [{cron: "0 3 * * *", timezone: Europe/Zurich}, {cron: "0 7 * * *", timezone: Europe/Zurich, overlap: skip}]}
""",
}


class Week:
    """A service whose clock is set."""

    def __init__(
        self, stack: Stack, client: Client, clock: SetClock, reservations: PostgresServer, mail: MailCatcher
    ) -> None:
        self.stack, self.client, self.mail = stack, client, mail
        self.clock, self.reservations = clock, reservations
        self._bookings = 0
        self.night(_FIRST, "12:00")

    def declare(self) -> None:
        url = {"host": "127.0.0.1", "port": self.reservations.port, "database": "reservations", "user": "postgres"}
        self.client.add_connection("reservations", "postgresql", {**url, "password": self.reservations.password})
        for statement in _RESERVATIONS:
            self.reservations.execute(statement, "reservations")
        self.reservations.execute(
            "INSERT INTO guest VALUES (1, 'Ursin', 'Scuol'), (2, 'Flurina', 'Zernez')", "reservations"
        )
        for name, text in _JOBS.items():
            self.client.save_job(name, f"ultravect: 1\njob: {name}\n{text}")
        occasions = ["failed", "recovered", "late", "changed", "missing"]
        self.client.save_notify_rule("wardens", occasions, mail=["wardens@huts.example"])

    def night(self, day: dt.date, clock: str) -> None:
        """Sets the clock to a time of a day in the mountains."""
        self.clock.to(dt.datetime.combine(day, dt.time.fromisoformat(clock), ZONE))

    def settle(self) -> None:
        """Waits until nothing runs, and nothing is due; then lets the time pass in which messages of one cause are gathered."""
        self.clock.settle(self.stack)
        if self.clock.counted(self.stack, _UNSENT):
            self.clock.to(self.clock.moment + dt.timedelta(seconds=2 * _GATHER_SECONDS))
            self.clock.settle(self.stack, _UNSENT)

    def pass_to(self, day: dt.date, *clocks: str) -> None:
        for clock in clocks:
            self.night(day, clock)
            self.settle()

    def booked(self, day: dt.date) -> None:
        """Guests book during the day."""
        rows = ", ".join(
            f"({self._bookings + n}, 'H{n % 3:02}', {n % 2 + 1}, DATE '{day}' + {n}, {n % 4 + 1})"
            for n in range(1, 21)
        )
        self._bookings += 20
        self.reservations.execute(
            f"INSERT INTO booking (booking_id, hut_code, guest_id, arrival, nights) VALUES {rows}", "reservations"
        )

    def slip(self, day: dt.date) -> None:
        (self.stack.files / f"slips-{day}.csv").write_text("hut_code,kilograms\nH00,48.50\nH01,120.00\n")


_NIGHTS = ("nothing", "a late file", "a database that is down", "a new column", "nothing", "no service", "nothing")


def nights(week: Week, kinds: Sequence[str] = _NIGHTS) -> Iterator[tuple[dt.date, str]]:
    """Lives through the week; each morning with what was special about its night."""
    all_night = ("02:00", "03:00", "04:00", "05:00", "07:00", "07:30")
    for number, kind in enumerate(kinds):
        day = _FIRST + dt.timedelta(days=number + 1)
        week.booked(day)
        if kind == "a late file":
            week.pass_to(day, "02:00", "03:00", "04:00")
            week.slip(day)
            week.pass_to(day, *all_night[3:])
        elif kind == "a database that is down":
            week.slip(day)
            week.night(day, "01:30")
            week.reservations.stop("immediate")
            week.pass_to(day, "02:00", "03:00")
            week.reservations.start()
            week.pass_to(day, *all_night[2:])
        elif kind == "no service":
            week.stack.stop_service()
            week.slip(day)
            week.night(day, "07:30")
            week.stack.start_service()
            week.settle()
        else:
            if kind == "a new column":
                week.reservations.execute(
                    "ALTER TABLE booking ADD COLUMN half_board boolean DEFAULT true", "reservations"
                )
            week.slip(day)
            week.pass_to(day, *all_night)
        yield day, kind


@contextmanager
def week_of_nights() -> Iterator[Week]:
    """A service of its own, and what the week needs as well; all is removed at the end."""
    folder = Path(tempfile.mkdtemp(prefix="ultravect-week-", dir="/var/tmp"))
    folder.chmod(0o755)
    mail, clock = MailCatcher(), SetClock(folder / "clock")
    reservations = PostgresServer.create(folder / "reservations", durable=False)
    reservations.execute("CREATE DATABASE reservations")
    settings = {
        VARIABLE: str(folder / "clock"),
        "ULTRAVECT_MAIL_SERVER": f"smtp://127.0.0.1:{mail.port}",
        "ULTRAVECT_GATHER_SECONDS": str(_GATHER_SECONDS),
    }
    stack = Stack.start(folder / "state", durable=False, settings=settings)
    try:
        with Client(stack.url, token=stack.token) as client:
            client.add_connection("incoming", "folder", {"path": str(stack.files)})
            client.add_connection("warehouse", "postgresql", stack.warehouse)
            week = Week(stack, client, clock, reservations, mail)
            week.declare()
            yield week
    finally:
        stack.close()
        stack.postgres.remove()
        reservations.remove()
        mail.close()
        shutil.rmtree(folder, ignore_errors=True)


def runs_of(week: Week, since: int) -> list[Run]:
    """Those that came after run ``since``, the oldest first."""
    found: list[Run] = []
    for line in week.client.runs(page_size=100).items:
        if line.id > since:
            found.append(week.client.show(line.id))
    return found[::-1]


def live_through(pictures: Path | None = None) -> None:
    """Prints what happened; ``pictures``: where the first page of the morning after the database was down is kept."""
    started, last, said = time.monotonic(), 0, 0
    with week_of_nights() as week:
        for day, kind in nights(week):
            runs = runs_of(week, last)
            last = max((run.id for run in runs), default=last)
            print(f"\n{day:%A}, {kind}")
            for run in runs:
                when = run.scheduled_for.astimezone(ZONE) if run.scheduled_for else None
                error = f"  {run.error['code']}" if run.error else ""
                print(f"  {f'{when:%H:%M}' if when else '':<6} {run.trigger:<9} {run.job:<12} {run.state}{error}")
            for message in week.mail.taken[said:]:
                print(f"  message: {message['Subject']}")
            said = len(week.mail.taken)
            if pictures and kind == "a database that is down":
                _picture(week, pictures / "morning.png")
        print(f"\n{last} runs and {said} messages in {time.monotonic() - started:.0f} s")


def _picture(week: Week, path: Path) -> None:
    with chromium() as browser:
        page = browser.new_page(
            viewport={"width": 1280, "height": 800}, timezone_id="Europe/Zurich", color_scheme="dark"
        )
        page.goto(week.stack.url)
        page.get_by_label("User").fill(USER)
        page.get_by_label("Password").fill(week.stack.password)
        page.get_by_role("button", name="Sign in").click()
        page.goto(f"{week.stack.url}/today")
        page.get_by_role("heading", name="The last 24 hours").wait_for()
        page.screenshot(path=path)
