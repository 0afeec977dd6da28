"""Makes the demo's files: seeded, so that every machine gets the same, and of any size."""

from __future__ import annotations

import argparse
import csv
import datetime as dt
import random
from collections.abc import Iterator
from pathlib import Path

HUTS = [
    "Adlerhorst", "Blauspitz", "Cima Serena", "Dachsegg", "Echotal", "Fernblick", "Glockenstein", "Hohe Wacht",
    "Im Geröll", "Jochalm", "Kreuzsattel", "La Crête", "Murmelboden", "Nebelkamp", "Oberschwand", "Piz Largo",
    "Quellgrund", "Rauhjoch", "Steinbockhöhe", "Tannegg", "Untere Platte", "Val d'Ombra", "Wetterloch", "Zwölferkopf",
    "Alpe Lunga", "Bergli", "Crap Sès", "Drei Zinken", "Eisfirn", "Felsentor", "Gratweg", "Hinterkar",
    "Innerfeld", "Kaltwasser", "Lärchboden", "Mittagstein", "Nordkante", "Ostgrat", "Pass Sura", "Rosskar",
]  # fmt: skip
GIVEN = [
    "Ana",
    "Björn",
    "Célia",
    "Dario",
    "Élodie",
    "Fritz",
    "Gözde",
    "Håkon",
    "Inès",
    "Jürg",
    "Łucja",
    "Māra",
    "Noé",
    "Zoë",
]
FAMILY = [
    "Amsler",
    "Brändli",
    "Côté",
    "Dvořák",
    "Eriksen",
    "Fontána",
    "Grünig",
    "Hösli",
    "Ivarsson",
    "Jäggi",
    "Kováč",
    "Õun",
]
REMARKS = [
    "", "", "", "", "vegetarian, no nuts", 'calls the hut "our second home"', "late arrival,\nafter the last cable car",
    "two dogs, one small", "brings own ropes", "Größe der Gruppe: 8, \"vielleicht\" 9", "naïve about the glacier",
]  # fmt: skip
AGENCIES = ["", "", "0017", "0102", "0450", "0999"]
STATUSES = ["confirmed", "confirmed", "confirmed", "draft", "cancelled"]


def huts() -> Iterator[list[object]]:
    """A row a hut."""
    yield [
        "hut_code",
        "name",
        "altitude_m",
        "beds",
        "open_from",
        "open_to",
        "winter_room",
        "latitude",
        "longitude",
    ]
    random_ = random.Random(40)
    for number, name in enumerate(HUTS, 1):
        opens = dt.date(2026, 6, 1) + dt.timedelta(days=random_.randrange(30))
        closes = dt.date(2026, 9, 15) + dt.timedelta(days=random_.randrange(30))
        yield [
            f"{number:03d}", name, random_.randrange(1450, 3250), random_.randrange(12, 96), opens, closes,
            random_.choice(["yes", "no"]), f"{46 + random_.random():.5f}", f"{8 + 2 * random_.random():.5f}",
        ]  # fmt: skip


def bookings(rows: int, seed: int = 2026) -> Iterator[list[object]]:
    """A row a booking."""
    yield [
        "booking_id", "hut_code", "guest_name", "guest_email", "arrival", "nights", "beds", "night_price", "paid",
        "status", "agency_code", "booked_at", "changed_at", "remark",
    ]  # fmt: skip
    random_ = random.Random(seed)
    opening = dt.datetime(2025, 11, 1, 7)
    for number in range(1, rows + 1):
        booked = opening + dt.timedelta(seconds=random_.randrange(20_000_000))
        changed = booked + dt.timedelta(
            seconds=random_.randrange(2_000_000), microseconds=random_.randrange(1_000_000)
        )
        given, family = random_.choice(GIVEN), random_.choice(FAMILY)
        email = f"guest{random_.randrange(rows * 2)}@example.org" if random_.random() < 0.9 else ""
        yield [
            100_000 + number, f"{random_.randrange(1, 41):03d}", f"{family}, {given}", email,
            dt.date(2026, 6, 1) + dt.timedelta(days=random_.randrange(120)), random_.randrange(1, 8),
            random_.randrange(1, 13), f"{random_.randrange(2800, 9900) / 100:.2f}",
            random_.choice(["true", "false"]), random_.choice(STATUSES), random_.choice(AGENCIES),
            booked.isoformat(" "), f"{changed.isoformat('T', 'milliseconds')}Z", random_.choice(REMARKS),
        ]  # fmt: skip


def write(folder: Path, rows: int) -> None:
    """Writes ``huts.csv`` and ``bookings.csv`` with ``rows`` bookings."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, content in (("huts.csv", huts()), ("bookings.csv", bookings(rows))):
        with (folder / name).open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(content)


def main() -> None:
    parser = argparse.ArgumentParser(description="Makes the demo's files.")
    parser.add_argument("folder", type=Path)
    parser.add_argument("--rows", type=int, default=4000, help="bookings to make")
    arguments = parser.parse_args()
    write(arguments.folder, arguments.rows)


if __name__ == "__main__":
    main()
