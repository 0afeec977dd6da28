"""Looking at sources: previews, scans, readers of each format and large catalogues, against the libraries below them."""

from __future__ import annotations

import csv
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from demo.generate import bookings
from demo.places import mast_readings, weigh_slips
from devtools.stack import Stack

from ultravect.client import Client

_ONE_CORE = {0}
_MB = 1_000_000
_BIG = 5_000 * _MB


def _seconds(action: Callable[[], object], times: int) -> list[float]:
    taken = []
    for _ in range(times):
        started = time.perf_counter()
        action()
        taken.append(time.perf_counter() - started)
    return taken


def _grown(path: Path, content: bytes, size: int, head: bytes = b"") -> Path:
    """A file of about ``size`` bytes: the content again and again."""
    with path.open("wb") as file:
        file.write(head)
        for _ in range(max(1, size // len(content))):
            file.write(content)
    return path


def _csv(path: Path, size: int) -> Path:
    rows = [row[:8] for row in bookings(20_000)]
    text = path.with_suffix(".part")
    with text.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, lineterminator="\n").writerows(rows)
    head, _, body = text.read_bytes().partition(b"\n")
    text.unlink()
    return _grown(path, body, size, head + b"\n")


# what a process of its own does on one core; it prints seconds and the peak of its memory in MB
_SCAN = """
import os, resource, sys, time
import pyarrow as pa
if {alone}:
    os.sched_setaffinity(0, {core})
    pa.set_cpu_count(1)
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.source.scan import scan_columns
from ultravect.core.engine.objects.sources import open_source
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.model.document import LAYOUT
folder, name, layout, what = sys.argv[1:5]
spec = ConnectionSpec("bench", "folder", {{"path": folder}}, [folder])
reader = open_source(spec, name, LAYOUT.read(eval(layout)) if layout else None)
found = scan_columns(reader, range(len(reader.names)), limit=1 << 20).columns
started = time.perf_counter()
if what == "scan":
    scan_columns(reader, range(len(reader.names)))
else:
    columns = [
        ColumnPlan(p, c.name, c.name, c.type, "", reader.formats.__class__(**{{**reader.formats.__dict__,
            "date_pattern": c.date_pattern or reader.formats.date_pattern}}))
        for p, c in found.items()
    ]
    shaper = Shaper(reader, columns)
    for block in reader.blocks():
        shaper.shape(block)
print(time.perf_counter() - started, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000)
"""


def _apart(path: Path, layout: dict[str, object] | None, what: str, *, alone: bool = True) -> tuple[float, float]:
    """Seconds and peak memory in MB of a process that scans or reads a file; ``alone``: on one core."""
    command = [
        sys.executable,
        "-c",
        _SCAN.format(core=_ONE_CORE, alone=alone),
        str(path.parent),
        path.name,
        repr(layout) if layout else "",
        what,
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    seconds, memory = done.stdout.split()
    return float(seconds), float(memory)


def _library(path: Path) -> float:
    """Seconds of Arrow's own streaming reader, on the same one core."""
    script = (
        f"import os, time; os.sched_setaffinity(0, {_ONE_CORE}); import pyarrow as pa, pyarrow.csv as pv; pa.set_cpu_count(1)\n"
        f"s = time.perf_counter()\nfor b in pv.open_csv({str(path)!r}, read_options=pv.ReadOptions(use_threads=False, block_size=4 << 20)): pass\n"
        "print(time.perf_counter() - s)"
    )
    return float(subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout)


def _previews(client: Client, stack: Stack, times: int) -> None:
    path = _csv(stack.files / "huge.csv", _BIG)
    client.preview("incoming", "huge.csv", rows=20)
    taken = _seconds(lambda: client.preview("incoming", "huge.csv", rows=20), times * 3)
    print(
        f"Preview of a {path.stat().st_size / 1e9:.1f} GB CSV over HTTP: median {statistics.median(taken) * 1000:.0f} ms (under 300)"
    )
    path.unlink()


def _wide(client: Client, stack: Stack, times: int) -> None:
    """Files of a few rows and many columns: numbers, measurements, and texts with dates among them."""
    path = stack.files / "wide.csv"
    print("Looking at wide files, ms: median")
    for columns, rows, limit in ((500, 4, 300), (500, 200, 1000), (10_000, 4, 5000)):
        lines = [",".join(f"c{number}" for number in range(columns))]
        for row in range(rows):
            lines.append(",".join((str(n * row), f"{n / 7 + row:.3f}", "2026-01-05")[n % 3] for n in range(columns)))
        path.write_text("\n".join(lines) + "\n")
        taken = statistics.median(_seconds(lambda: client.preview("incoming", "wide.csv", rows=20), times)) * 1000
        print(f"  {columns:,} columns of {rows} rows: {taken:.0f} (under {limit:,})")
    path.unlink()
    print()


def _speeds(stack: Stack, times: int) -> None:
    print("One core: full type scan, and reading into typed batches")
    folder = stack.files
    slips = weigh_slips(20_000).encode()
    readings = ("\n".join(mast_readings(20_000)) + "\n").encode()
    path = _csv(folder / "speed.csv", 200 * _MB)
    size = path.stat().st_size / _MB
    ours, theirs, scans = [], [], []
    for _ in range(times):
        theirs.append(_library(path))
        ours.append(_apart(path, None, "read")[0])
        scans.append(_apart(path, None, "scan")[0])
    best = min(theirs)
    print(
        f"  delimited: scan {size / min(scans):.0f} MB/s, read {size / min(ours):.0f} MB/s; Arrow's own reader {size / best:.0f} MB/s"
    )
    print(f"    ratio of reading (at least 0.8): {best / min(ours):.2f}; of scanning: {best / min(scans):.2f}")
    path.unlink()
    for name, content, layout in (
        ("speed.jsonl", readings, None),
        ("speed.txt", slips[60:], {"format": "fixed", "record": 60, "terminator": "none", "header": False,
            "fields": [{"name": n, "width": w} for n, w in (("slip", 9), ("hut", 5), ("cargo", 18), ("kg", 6), ("flown", 14), ("pilot", 8))]}),
    ):  # fmt: skip
        path = _grown(folder / name, content, 100 * _MB)
        size = path.stat().st_size / _MB
        read = min(_apart(path, layout, "read", alone=False)[0] for _ in range(times))
        one = min(_apart(path, layout, "read")[0] for _ in range(times))
        print(
            f"  {name.split('.')[1]:<9}: read {size / read:.0f} MB/s (at least 60); on one core {size / one:.0f} MB/s"
        )
        path.unlink()
    print()


def _memory(stack: Stack) -> None:
    print("Peak memory of reading, and of a file four times as large")
    folder = stack.files
    xml = b'<call no="1"><hut>001</hut><at>2026-07-01</at></call>\n' * 2000
    rows = (",\n".join(mast_readings(5000)) + ",\n").encode()
    for name, head, content, tail in (
        ("m.csv", b"", None, b""),
        ("m.jsonl", b"", rows.replace(b",\n", b"\n"), b""),
        ("m.json", b"[", rows, b'{"mast": "M00"}]'),
        ("m.xml", b"<log>", xml, b"</log>"),
    ):
        shown = []
        for factor in (1, 4):
            size = 25 * _MB * factor
            path = folder / name
            if content is None:
                _csv(path, size)
            else:
                _grown(path, content, size, head)
                with path.open("ab") as file:
                    file.write(tail)
            shown.append(_apart(path, None, "read")[1])
            path.unlink()
        print(f"  {name.split('.')[1]:<6} {shown[0]:.0f} MB, {shown[1]:.0f} MB")
    print()


def _catalogues(client: Client, stack: Stack, times: int) -> None:
    stack.postgres.execute("CREATE DATABASE many")
    stack.postgres.execute("DO $$ BEGIN FOR i IN 1..10000 LOOP EXECUTE format('CREATE TABLE t%s (a int)', i); "
                           "IF i % 1000 = 0 THEN COMMIT; END IF; END LOOP; END $$", "many")  # fmt: skip
    client.add_connection("many-tables", "postgresql", {**stack.warehouse, "database": "many"})
    folder = stack.files / "many"
    for number in range(100_000):
        place = folder / f"{number // 1000:03d}"
        if number % 1000 == 0:
            place.mkdir(parents=True)
        (place / f"{number}.csv").touch()
    client.add_connection("many-files", "folder", {"path": str(folder)})
    print("A page of 200 of a large catalogue, over HTTP (milliseconds, median)")
    for name, search, after in (("many-tables", "t99", "public.t5"), ("many-files", "9990", "050/")):
        for label, call in (
            ("first page", lambda name=name: client.objects(name)),
            ("page in the middle", lambda name=name, after=after: client.objects(name, after=after)),
            ("search", lambda name=name, search=search: client.objects(name, search=search)),
        ):
            print(f"  {name}, {label}: {statistics.median(_seconds(call, times)) * 1000:.0f}")
    pattern = statistics.median(_seconds(lambda: client.objects("many-files", pattern="099/*5.csv"), times)) * 1000
    print(f"  many-files, pattern: {pattern:.0f}\n")


def run(client: Client, stack: Stack, times: int) -> None:
    """Prints the figures."""
    _previews(client, stack, times)
    _wide(client, stack, times)
    _speeds(stack, times)
    _memory(stack)
    _catalogues(client, stack, times)
