"""Some nights before today, so that a person who opens the demo finds a service that has worked for a week, and a bad night to look into."""

from __future__ import annotations

import datetime as dt
import json
import os
import random
from collections.abc import Callable, Iterator
from pathlib import Path
from zoneinfo import ZoneInfo

from demo.generate import HUTS

ZONE = ZoneInfo("Europe/Zurich")
TIMES = ("01:00", "02:15", "03:00", "03:30", "06:01")
"""At which something is due; the last one is when it is seen what is late."""

SURVEY = """CREATE TABLE survey (
    answer_id int PRIMARY KEY, hut_code varchar(4) NOT NULL, stars smallint NOT NULL, words text, answered_at timestamptz NOT NULL
)"""
_BAD_ROWS = (2, 0, 4, 0, 1, 3)
_WORDS = ["Zauberhaft!", "Soup was cold, view was not.", "Merci à toute l'équipe", "Snored at by nine people", None]
_BAD = (
    lambda row: {**row, "nights": "two"},
    lambda row: {**row, "arrival": f"{row['arrival'][:8]}32"},
    lambda row: {**row, "paid": "maybe"},
    lambda row: {**row, "nights": "0"},
)


def days(count: int, now: dt.datetime) -> list[dt.date]:
    """The days of the last ``count`` nights that are over, the oldest first."""
    here = now.astimezone(ZONE)
    last = here.date() if here.time() > dt.time(6, 30) else here.date() - dt.timedelta(days=1)
    return [last - dt.timedelta(days=back) for back in reversed(range(count))]


def write_night(files: Path, day: dt.date, number: int, *, bad: bool) -> None:
    """What comes in before a night: a page of the guestbook, and agencies' bookings; of a ``bad`` night too many rows are wrong, and one agency
    has sent nothing."""
    chance = random.Random(number)
    rows = [
        {
            "visit_id": str(1000 * number + visit),
            "hut_code": f"{chance.randrange(1, len(HUTS) + 1):03d}",
            "arrival": str(day - dt.timedelta(days=chance.randrange(1, 4))),
            "nights": str(chance.randrange(1, 6)),
            "paid": chance.choice(["yes", "yes", "no"]),
        }
        for visit in range(40 + chance.randrange(40))
    ]
    wrong = 9 if bad else _BAD_ROWS[number % len(_BAD_ROWS)]
    for place in chance.sample(range(len(rows)), wrong):
        rows[place] = _BAD[place % len(_BAD)](rows[place])
    lines = [",".join(rows[0]), *(",".join(row.values()) for row in rows)]
    folder = files / "guestbook"
    folder.mkdir(exist_ok=True)
    _write(folder / f"{day}.csv", "\n".join(lines) + "\n", day)
    booked = [
        (500_000 + 100 * number + n, f"{chance.randrange(1, 41):03d}", day + dt.timedelta(days=n), n % 4 + 1)
        for n in range(chance.randrange(6, 14))
    ]
    folder = files / "agencies"
    german = [f"{one};{hut};{arrival};{nights};{60 * nights},00" for one, hut, arrival, nights in booked]
    _write(folder / f"bergfrei-{day}.csv", "\n".join(["Buchung;Huette;Anreise;Naechte;Preis", *german]) + "\n", day)
    piped = [f"{one}||{hut}||{arrival}||{nights}||N" for one, hut, arrival, nights in booked]
    if not bad:
        _write(folder / f"sentier-{day}.txt", "\n".join(["ref||hut||arrives||nights||paid", *piped]) + "\n", day)
    lines = [{"id": one, "hut": hut, "from": str(arrival), "nights": nights} for one, hut, arrival, nights in booked]
    _write(folder / f"gipfelwerk-{day}.jsonl", "".join(f"{json.dumps(line)}\n" for line in lines), day)


def _write(path: Path, text: str, day: dt.date) -> None:
    path.write_text(text, "utf-8")
    came = dt.datetime.combine(day, dt.time(0, 20), ZONE).timestamp()
    os.utime(path, (came, came))


def answers(number: int, day: dt.date) -> Iterator[tuple[object, ...]]:
    """What guests have answered in the survey on a day."""
    chance = random.Random(number)
    for place in range(chance.randrange(20, 45)):
        at = dt.datetime.combine(day, dt.time(chance.randrange(8, 22), chance.randrange(60)), ZONE) - dt.timedelta(
            days=1
        )
        yield (
            1000 * number + place,
            f"{chance.randrange(1, 41):03d}",
            chance.choice([3, 4, 4, 5, 5, 5, 1]),
            chance.choice(_WORDS),
            at,
        )


def live(
    nights: list[dt.date],
    files: Path,
    *,
    to: Callable[[dt.datetime], None],
    settle: Callable[[], None],
    before: Callable[[int, dt.date, bool], None],
) -> None:
    """Lives through ``nights``. ``to`` sets the service's clock, ``settle`` waits until nothing runs or is due; ``before`` is called in the evening
    with the number of the night, its day, and whether it becomes a bad one: the last one does."""
    for number, day in enumerate(nights):
        bad = number == len(nights) - 1
        to(dt.datetime.combine(day, dt.time(0, 30), ZONE))
        write_night(files, day, number, bad=bad)
        before(number, day, bad)
        for time in TIMES:
            to(dt.datetime.combine(day, dt.time.fromisoformat(time), ZONE))
            settle()
