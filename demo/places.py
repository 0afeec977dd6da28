"""What the demo's other places hold: reservations, guestbooks, weigh-slips, masts, inspections, agencies' files."""

from __future__ import annotations

import csv
import datetime as dt
import gzip
import io
import json
import random
import sqlite3
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from xml.sax.saxutils import escape

import duckdb
import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

from demo.generate import FAMILY, GIVEN, HUTS, bookings

_CARGO = ["firewood", "bread and milk", "gas, 11 kg", "mattresses", "roof tiles", "beer", "solar battery"]
_DEFECTS = ["", "", "", "loose shutter", "stove door jammed", "stolen axe", "leak above bunk 4"]
_ENTRIES = ["Zauberhaft!", "Soup was cold, view was not.", "Merci à toute l'équipe 🏔", "Snored at by nine people", ""]

RESERVATIONS = (
    """CREATE TABLE guest (
        guest_id int unsigned PRIMARY KEY AUTO_INCREMENT COMMENT 'never given out',
        name varchar(80) NOT NULL, email varchar(120), born date, member tinyint(1) NOT NULL DEFAULT 0
    ) COMMENT 'People who booked, at least once'""",
    """CREATE TABLE booking (
        booking_id int unsigned PRIMARY KEY, guest_id int unsigned NOT NULL, hut_code char(3) NOT NULL,
        arrival date NOT NULL, nights tinyint unsigned NOT NULL, night_price decimal(8,2),
        status enum('draft','confirmed','cancelled') NOT NULL DEFAULT 'draft', changed_at datetime(3) NOT NULL,
        remark text, KEY (hut_code), KEY (changed_at)
    ) COMMENT 'Every booking, also cancelled ones'""",
    """CREATE TABLE payment (
        payment_id bigint unsigned PRIMARY KEY AUTO_INCREMENT, booking_id int unsigned NOT NULL,
        amount decimal(10,2) NOT NULL, paid_at timestamp NOT NULL, receipt json
    ) COMMENT 'Money in and out'""",
    "CREATE VIEW open_booking AS SELECT booking_id, hut_code, arrival FROM booking WHERE status = 'draft'",
)


def reservations(rows: int) -> tuple[list[tuple[object, ...]], list[tuple[object, ...]], list[tuple[object, ...]]]:
    """Rows of guest, booking and payment."""
    random_ = random.Random(11)
    source = bookings(rows)
    names = next(source)
    guests = [
        (
            number,
            f"{random_.choice(FAMILY)}, {random_.choice(GIVEN)}",
            f"guest{number}@example.org",
            dt.date(1950, 1, 1) + dt.timedelta(days=random_.randrange(20_000)),
            random_.randrange(2),
        )
        for number in range(1, rows // 3 + 2)
    ]
    booked: list[tuple[object, ...]] = []
    paid: list[tuple[object, ...]] = []
    for row in source:
        one = dict(zip(names, row, strict=True))
        guest = random_.randrange(len(guests)) + 1
        changed = str(one["changed_at"]).rstrip("Z").replace("T", " ")
        booked.append(
            (
                one["booking_id"], guest, one["hut_code"], one["arrival"], one["nights"], one["night_price"],
                one["status"], changed, one["remark"] or None,
            )
        )  # fmt: skip
        if one["paid"] == "true":
            amount = float(str(one["night_price"])) * int(str(one["nights"]))
            paid.append(
                (
                    one["booking_id"],
                    f"{amount:.2f}",
                    changed[:19],
                    json.dumps({"by": "card", "huts": [one["hut_code"]]}),
                )
            )
    return guests, booked, paid


def weigh_slips(rows: int) -> str:
    """The helicopter operator's records: 60 characters each, one after the other on a single line."""
    random_ = random.Random(60)
    head = f"{'SLIP_NO':<9}{'HUT':<5}{'CARGO':<18}{'KG':>6}  {'FLOWN':<12}{'PILOT':<8}"
    lines = [head]
    for number in range(1, rows + 1):
        day = dt.date(2026, 6, 1) + dt.timedelta(days=random_.randrange(90))
        lines.append(
            f"{number:08d} {random_.randrange(1, 41):03d}  {random_.choice(_CARGO):<18}{random_.randrange(20, 980):>6}  "
            f"{day.strftime('%d.%m.%Y'):<12}{random_.choice(['rk', 'md', 'zz']):<8}"
        )
    return "".join(line.ljust(60) for line in lines)


def mast_readings(rows: int, seed: int = 7) -> Iterator[str]:
    """The weather masts' nested JSON lines."""
    random_ = random.Random(seed)
    start = dt.datetime(2026, 7, 1, tzinfo=dt.UTC)
    for number in range(rows):
        reading = {
            "mast": f"M{number % 6:02d}",
            "at": (start + dt.timedelta(minutes=10 * (number // 6))).isoformat().replace("+00:00", "Z"),
            "wind": {"speed": round(random_.random() * 28, 1), "gust": round(random_.random() * 55, 1), "from": random_.randrange(360)},
            "air": {"celsius": round(random_.gauss(4, 6), 2), "hpa": round(random_.gauss(760, 9), 1) if number % 9 else None},
            "flags": random_.choice([[], [], ["icing"], ["icing", "battery"]]),
        }  # fmt: skip
        yield json.dumps(reading)


def _inspections(path: Path) -> None:
    """The wardens' sheets: a title, an empty row, then the table; real dates and numbers; a formula; merged cells."""
    book = openpyxl.Workbook()
    for month, name in ((6, "June"), (7, "July")):
        sheet = book.create_sheet(name)
        random_ = random.Random(month)
        sheet["A1"] = f"Inspection round {name} 2026"
        sheet.merge_cells("A1:F1")
        sheet.append([])
        sheet.append(["Hut", "Inspected", "Warden", "Beds", "Broken", "Defect"])
        for number, _ in enumerate(HUTS, 1):
            broken = random_.choice([0, 0, 0, 1, 2])
            inspected = dt.date(2026, month, random_.randrange(1, 29))
            beds, defect = random_.randrange(12, 96), random_.choice(_DEFECTS) or None
            sheet.append([f"{number:03d}", inspected, random_.choice(FAMILY), beds, broken, defect])
    book.remove(book.worksheets[0])
    book.save(path)


def _agency_files(folder: Path, rows: int) -> None:
    """Bookings from three partners, each in a CSV of its own kind."""
    source = bookings(rows, seed=77)
    names = next(source)
    booked = [dict(zip(names, row, strict=True)) for row in source]

    def price(one: dict[str, object]) -> str:
        total = float(str(one["night_price"])) * int(str(one["nights"]))
        return f"{total:,.2f}".replace(",", "_").replace(".", ",").replace("_", ".")

    german = ["Export der Agentur Bergfrei", "gedruckt am 1.8.2026", "", "Nr;Hütte;Gast;Ankunft;Nächte;Betrag"]
    for item in booked:
        if str(item["guest_name"]).encode("cp1252", "ignore").decode("cp1252") != item["guest_name"]:
            continue  # their system knows no such letters
        arrival = item["arrival"]
        assert isinstance(arrival, dt.date)
        german.append(
            f"{item['booking_id']};{item['hut_code']};{item['guest_name']};{arrival.strftime('%d.%m.%Y')};{item['nights']};{price(item)}"
        )
    (folder / "bergfrei-2026-07.csv").write_bytes(("\r\n".join(german) + "\r\n").encode("cp1252"))
    piped = ["ref||hut||arrives||nights||paid"]
    piped += [
        f"{o['booking_id']}||{o['hut_code']}||{o['arrival']}||{o['nights']}||{'J' if o['paid'] == 'true' else 'N'}"
        for o in booked
    ]
    (folder / "sentier.txt").write_text("\n".join(piped) + "\n", "utf-8")
    later = ["Buchung;Huette;Anreise;Naechte;Preis"]  # the agency has other software since August
    later += [f"{o['booking_id']};{o['hut_code']};{o['arrival']};{o['nights']};{price(o)}" for o in booked[:40]]
    (folder / "bergfrei-2026-08.csv").write_text("\n".join(later) + "\n", "utf-8")
    lines = [
        {"id": o["booking_id"], "hut": o["hut_code"], "from": str(o["arrival"]), "nights": o["nights"]}
        for o in booked[:60]
    ]
    (folder / "gipfelwerk-2026-08.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines), "utf-8")
    # a file that fits no version of its agency
    (folder / "sentier-2026-08.txt").write_text("reference|refuge|arrivee|nuits\nS1|007|2026-08-30|2\n", "utf-8")
    with zipfile.ZipFile(folder / "hikeandsleep.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for month in (6, 7):
            text = io.StringIO()
            writer = csv.writer(text, delimiter="\t")
            writer.writerow(["booking", "hut", "arrival", "beds"])
            writer.writerows(
                [o["booking_id"], o["hut_code"], o["arrival"], o["beds"]]
                for o in booked
                if str(o["arrival"])[5:7] == f"{month:02d}"
            )
            archive.writestr(f"2026-{month:02d}/bookings.tsv", text.getvalue())


def _stays(folder: Path, rows: int) -> None:
    """Nights stayed, as Parquet in a folder a season."""
    for season in (2025, 2026):
        random_ = random.Random(season)
        table = pa.table(
            {
                "hut": pa.array([f"{random_.randrange(1, 41):03d}" for _ in range(rows)]),
                "night": pa.array(
                    [dt.date(season, 7, 1) + dt.timedelta(days=random_.randrange(60)) for _ in range(rows)]
                ),
                "guests": pa.array([random_.randrange(1, 90) for _ in range(rows)], pa.int16()),
                "kitchen": pa.array(
                    [{"soups": random_.randrange(80), "cakes": random_.randrange(30)} for _ in range(rows)]
                ),
            }
        )
        (folder / f"season={season}").mkdir(parents=True, exist_ok=True)
        pq.write_table(table, folder / f"season={season}" / "stays.parquet")


def _rescues(path: Path) -> None:
    random_ = random.Random(144)
    calls = "".join(
        f'  <call no="{number}"><hut>{random_.randrange(1, 41):03d}</hut><at>2026-07-{random_.randrange(1, 29):02d}T'
        f"{random_.randrange(24):02d}:15:00</at><what>{escape(random_.choice(['twisted ankle', 'lost in fog', 'cow & dog']))}</what>"
        f"<crew><pilot>rk</pilot><minutes>{random_.randrange(12, 70)}</minutes></crew></call>\n"
        for number in range(1, 121)
    )
    path.write_text(
        f'<?xml version="1.0" encoding="UTF-8"?>\n<log xmlns="urn:example:rescue">\n{calls}</log>\n', "utf-8"
    )


def _guestbook(path: Path, rows: int) -> None:
    path.unlink(missing_ok=True)
    random_ = random.Random(5)
    with closing(sqlite3.connect(path)) as database:
        database.execute(
            "CREATE TABLE entry (id INTEGER PRIMARY KEY, hut_code TEXT NOT NULL, written DATE, stars INTEGER, words TEXT)"
        )
        database.executemany(
            "INSERT INTO entry VALUES (?, ?, ?, ?, ?)",
            (
                (n, f"{random_.randrange(1, 41):03d}", f"2026-07-{random_.randrange(1, 29):02d}", random_.randrange(1, 6), random_.choice(_ENTRIES))
                for n in range(1, rows + 1)
            ),
        )  # fmt: skip
        database.execute("CREATE VIEW praise AS SELECT hut_code, words FROM entry WHERE stars = 5")
        database.execute("ANALYZE")
        database.commit()


def _weather(path: Path) -> None:
    path.unlink(missing_ok=True)
    with closing(duckdb.connect(str(path))) as database:
        database.execute(
            "CREATE TABLE season (mast VARCHAR, day DATE, gust DECIMAL(5,1), sunshine INTERVAL, PRIMARY KEY (mast, day));"
            "COMMENT ON TABLE season IS 'Last season, a row a mast and day';"
            "INSERT INTO season SELECT 'M0' || m, DATE '2025-06-01' + d::INTEGER, (m * 7 + d) % 90, to_minutes(d * 3) "
            "FROM range(6) a(m), range(120) b(d)"
        )


def write_files(folder: Path, rows: int) -> None:
    """Everything that the folder ``incoming`` holds next to huts and bookings, and the database files."""
    few = max(60, rows // 20)
    for name in ("agencies", "stays", "slips"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    (folder / "slips" / "2026-06.txt").write_text(weigh_slips(few), "ascii")
    _inspections(folder / "inspections.xlsx")
    _agency_files(folder / "agencies", few)
    _stays(folder / "stays", few)
    _rescues(folder / "rescues.xml")
    prices = {"half-board": 79.5, "bed": 42.0, "tent": 15.5}
    tariffs = [{"code": code, "price": {"adult": adult, "child": adult / 2}} for code, adult in prices.items()]
    (folder / "tariffs.json").write_text(json.dumps({"valid": 2026, "tariffs": tariffs}, indent=1))
    _guestbook(folder / "guestbook.db", few)
    _weather(folder / "weather.duckdb")


def write_masts(bucket: Path, rows: int) -> None:
    """The bucket of the weather masts: a compressed file a day."""
    for day in (1, 2, 3):
        path = bucket / "2026" / f"07-{day:02d}.jsonl.gz"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(gzip.compress("\n".join(mast_readings(max(60, rows // 10), day)).encode() + b"\n", mtime=0))


def write_forecast(folder: Path) -> None:
    """What the weather service gives over HTTP."""
    folder.mkdir(parents=True, exist_ok=True)
    days = [
        {"day": f"2026-08-{day:02d}", "hut": f"{hut:03d}", "snow_cm": (day * hut) % 7}
        for day in range(1, 11)
        for hut in (1, 7, 40)
    ]
    (folder / "forecast.json").write_text(json.dumps({"issued": "2026-08-01T06:00:00Z", "days": days}))
