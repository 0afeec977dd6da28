"""What lake tables take: rows from the same Arrow batches, by our load and by the format's own library."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
from deltalake import DeltaTable, write_deltalake
from pyiceberg.catalog.sql import SqlCatalog

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, Merge, WritePlan
from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.write.driver import open_write
from ultravect.core.types.canonical import CanonicalType

_COLUMNS = {
    "booking_id": "bigint", "hut_code": "text", "nights": "integer", "price": "double", "arrival": "date", "changed_at": "timestamp",
    "guest": "text", "paid": "boolean",
}  # fmt: skip
_BATCH = 65_536
_NAME = TableName(None, "booking")


def _batches(first: int, rows: int, seed: int) -> list[pa.RecordBatch]:
    random = np.random.default_rng(seed)
    found = []
    for start in range(first, first + rows, _BATCH):
        keys = np.arange(start, min(start + _BATCH, first + rows))
        count = len(keys)
        found.append(
            pa.record_batch(
                [
                    pa.array(keys),
                    pa.array([f"{code:03d}" for code in random.integers(1, 41, count)]),
                    pa.array(random.integers(1, 14, count).astype("int32")),
                    pa.array(random.random(count)),
                    pa.array(random.integers(20_000, 20_900, count).astype("int32"), pa.date32()),
                    pa.array(random.integers(0, 2**50, count), pa.timestamp("us")),
                    pa.array([f"guest{number}@example.org" for number in random.integers(0, 10**6, count)]),
                    pa.array(random.random(count) < 0.5),
                ],
                names=list(_COLUMNS),
            )
        )
    return found


class _Lakes:
    def __init__(self, times: int, form: str = "delta") -> None:
        self.times = times
        self.folder = Path(tempfile.mkdtemp(prefix="ultravect-bench-", dir="/var/tmp"))
        self.spec = ConnectionSpec("season", "lake", {"path": str(self.folder), "format": form}, [str(self.folder)])
        self.database, self.table = database_of(self.spec), self.folder / "booking"
        self.columns = [NewColumn(name, CanonicalType(kind)) for name, kind in _COLUMNS.items()]
        self.runs = 0

    def load(self, batches: Sequence[pa.RecordBatch], **order: object) -> None:
        self.runs += 1
        key = ReceiptKey(f"bench-{self.runs}")
        wanted = Attempt(WritePlan(_NAME, self.columns, **order), key)  # type: ignore[arg-type]
        with open_write(self.database, wanted) as load:
            for batch in batches:
                load.write(batch)
            load.finish()
            load.publish(Receipt("booking", "append"))
            load.verify()

    def fresh(self, held: Path | None = None) -> None:
        shutil.rmtree(self.table, ignore_errors=True)
        if held is not None:
            shutil.copytree(held, self.table)

    def compare(
        self,
        label: str,
        limit: float,
        prepare: Callable[[], None],
        ours: Callable[[], None],
        theirs: Callable[[], None],
    ) -> None:
        ratios, seconds = [], []
        for _ in range(self.times):
            taken = []
            for work in (ours, theirs):
                prepare()
                started = time.perf_counter()
                work()
                taken.append(time.perf_counter() - started)
            ratios.append(taken[0] / taken[1])
            seconds.append(taken[0])
        ratios.sort()
        print(
            f"  {label:<50} {ratios[len(ratios) // 2]:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}; at most {limit}; {min(seconds):.2f} s)",
            flush=True,
        )


def run(rows: int, times: int) -> None:
    """``rows`` are appended; half as many are brought by keys into two and a half times as many."""
    lakes = _Lakes(times)
    try:
        batches = _batches(0, rows, 1)
        schema = batches[0].schema

        def append() -> None:
            write_deltalake(str(lakes.table), pa.RecordBatchReader.from_batches(schema, batches))

        print(f"lake, {rows:,} rows of {len(_COLUMNS)} columns:")
        lakes.compare(
            "a new table, against write_deltalake", 1.1, lakes.fresh,
            lambda: lakes.load(batches, create=NewTable(lakes.columns)), append,
        )  # fmt: skip
        held = lakes.folder / "held"
        there = _batches(0, rows * 5 // 2, 2)
        write_deltalake(str(held), pa.RecordBatchReader.from_batches(schema, there), target_file_size=32 << 20)
        coming = _batches(rows * 9 // 4, rows // 2, 3)

        def merge() -> None:
            source = pa.RecordBatchReader.from_batches(schema, coming)
            merger = DeltaTable(str(lakes.table)).merge(
                source, "t.booking_id = s.booking_id", source_alias="s", target_alias="t"
            )
            merger.when_matched_update_all().when_not_matched_insert_all().execute()

        lakes.compare(
            f"{rows // 2:,} by keys into {rows * 5 // 2:,}, against merge", 1.2, lambda: lakes.fresh(held),
            lambda: lakes.load(coming, action=Merge(), keys=("booking_id",), samples=50), merge,
        )  # fmt: skip
    finally:
        shutil.rmtree(lakes.folder, ignore_errors=True)
    _iceberg(batches, rows, times)


def _iceberg(batches: Sequence[pa.RecordBatch], rows: int, times: int) -> None:
    """Its library has all rows in memory, and matches keys in Python: only the append is compared."""
    lakes = _Lakes(times, "iceberg")
    try:
        place = f"file://{lakes.folder}"

        def fresh() -> None:
            shutil.rmtree(lakes.folder, ignore_errors=True)
            lakes.folder.mkdir()
            lakes.database = database_of(lakes.spec)

        def append() -> None:
            catalogue = SqlCatalog("default", uri=f"sqlite:///{lakes.folder}/catalogue.sqlite", warehouse=place)
            catalogue.create_namespace_if_not_exists(("main",))
            table = pa.Table.from_batches(batches)
            catalogue.create_table(("main", "booking"), table.schema).append(table)

        lakes.compare(
            f"a new Iceberg table of {rows:,}, against its library", 1.1, fresh,
            lambda: lakes.load(batches, create=NewTable(lakes.columns)), append,
        )  # fmt: skip
    finally:
        shutil.rmtree(lakes.folder, ignore_errors=True)
