"""What tests of the write modes share: loads of a few rows from a file into a table of any database."""

from __future__ import annotations

import csv
import itertools
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from devtools.legs import run_leg
from devtools.pairs import Copied, Place

from ultravect.core.engine.look.check import CheckResult, check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.model.document import job_from_data

_runs = itertools.count(1)


class Writer:
    """Loads rows into one table, each time as a run of its own."""

    def __init__(self, place: Place, folder: Path, table: str = "modes") -> None:
        self.place, self.folder, self.table = place, folder, table
        self.source = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.heard = Copied()

    def job(self, rows: Sequence[Sequence[Any]], names: Sequence[str], into: dict[str, Any]) -> Any:
        with (self.folder / "rows.csv").open("w", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(names)
            writer.writerows(["" if value is None else value for value in row] for row in rows)
        columns = into.pop("columns", ["*"])
        layout = {"format": "delimited", "delimiter": ",", "values": {"nulls": [""]}}
        return job_from_data(
            {
                "ultravect": 1,
                "job": "modes",
                "from": {"connection": "incoming", "files": "rows.csv", "layout": layout},
                "columns": columns,
                "into": {"connection": self.place.spec.name, "table": self.table, **into},
            }
        )

    def load(self, rows: Sequence[Sequence[Any]], names: Sequence[str] = ("k", "v"), **into: Any) -> LegResult:
        self.heard = Copied()
        run = into.pop("run", None) or f"run-{next(_runs)}"
        earlier = [run] if into.pop("taken_over", False) else []
        job = self.job(rows, names, into)
        return run_leg(
            job, self.source, self.place.spec, self.heard, receipt=f"{run}.2" if earlier else run, earlier=earlier
        )

    def check(self, rows: Sequence[Sequence[Any]], names: Sequence[str] = ("k", "v"), **into: Any) -> CheckResult:
        return check_job(self.job(rows, names, into), self.source, self.place.spec)

    def rows(self, columns: str = "k, v") -> list[tuple[Any, ...]]:
        return self.place.sql(f"SELECT {columns} FROM {self.table} ORDER BY 1, 2")

    def left_behind(self) -> list[str]:
        """Tables of ours, other than receipts."""
        listed = {
            "postgresql": "SELECT relname FROM pg_class WHERE relname LIKE 'ultravect\\_%' AND relkind = 'r'",
            "mariadb": "SELECT table_name FROM information_schema.tables WHERE table_name LIKE 'ultravect\\_%'",
            "sqlite": "SELECT name FROM sqlite_schema WHERE type = 'table' AND name LIKE 'ultravect%'",
            "sqlserver": "SELECT name FROM sys.tables WHERE name LIKE 'ultravect%'",
            "duckdb": "SELECT table_name FROM duckdb_tables() WHERE table_name LIKE 'ultravect%'",
        }
        return [
            name
            for (name,) in self.place.sql(listed[self.place.kind])
            if name not in ("ultravect_receipt", "ultravect_mark")
        ]


def rejected_comes_back(writer: Writer) -> None:
    """Of four rows three are gone; then the keys of two of them come again, in rows that are rejected, one of them with another date."""
    columns = ["cast(k as integer) as k", "cast(d as date) as d", "v", "cast(n as smallint) as n"]
    into: dict[str, Any] = {
        "mode": "upsert", "keys": ["k", "d"], "gone": {"flag": "is_gone"}, "gone_limit": "100%", "columns": columns,
    }  # fmt: skip
    names = ("k", "d", "v", "n")
    first = [(number, "2026-07-01", "x'\\", 1) for number in range(1, 5)]
    writer.load(first, names, **into)
    assert writer.load(first[3:], names, **into).gone == 3
    came = [(1, "2026-07-01", "x", "many"), (2, "2026-07-02", "x", "many"), ("soup", "2026-07-01", "x", 1), first[3]]
    result = writer.load(came, names, rejects=9, **into)
    assert (result.tally.rejected, result.gone) == (3, 0)
    found = {row[0]: bool(row[1]) for row in writer.rows("k, is_gone")}
    assert found == {1: False, 2: True, 3: True, 4: False}
