"""What tests of files as targets share: a small file that is copied into files, in any kind of storage."""

from __future__ import annotations

import csv
import itertools
from pathlib import Path
from typing import Any

from devtools.legs import run_leg
from devtools.pairs import Copied

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.model.document import job_from_data

_runs = itertools.count(1)
ROWS = [
    ("007", 1, "4.50", "2026-07-01", 'a "quoted", one', "true"),
    ("007", 2, "", "", "two\nlines", "false"),
    ("008", 3, "-0.05", "1999-12-31", "é 🏔", ""),
]
HEADER = "hut,n,price,day,note,open\n"
COLUMNS = ["hut text(3)", "n integer", "price decimal(8,2)", "day date", "note", "open boolean"]


class Export:
    """Copies a small file into files of ``target``."""

    def __init__(self, target: ConnectionSpec, folder: Path, disk: Path | None = None) -> None:
        """``disk`` is where the files of the target are on this machine."""
        self.target, self.folder, self.disk = target, folder, disk
        self.source = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.heard = Copied()

    def job(self, files: str, rows: list[Any] | None = None, columns: list[str] | None = None, **into: Any) -> Any:
        with (self.folder / "rows.csv").open("w", newline="") as file:
            file.write(HEADER)
            csv.writer(file).writerows(ROWS if rows is None else rows)
        return job_from_data(
            {
                "ultravect": 1,
                "job": "export",
                "parameters": {"season": 2026},
                "from": {"connection": "incoming", "files": "rows.csv"},
                "columns": columns or COLUMNS,
                "into": {"connection": "exports", "files": files, **into},
            }
        )

    def run(self, files: str, rows: list[Any] | None = None, **into: Any) -> LegResult:
        number = into.pop("run", None) or next(_runs)
        earlier = [f"{number}-x"] if into.pop("taken_over", False) else []
        receipt = f"{number}-x.2" if earlier else f"{number}-x"
        self.heard = Copied()
        job = self.job(files, rows, **into)
        return run_leg(
            job, self.source, self.target, self.heard, run_id=str(number), receipt=receipt, earlier=earlier
        )

    def files(self) -> dict[str, bytes]:
        if self.disk is not None:
            found = {path.relative_to(self.disk).as_posix(): path for path in self.disk.rglob("*") if path.is_file()}
            return {name: path.read_bytes() for name, path in found.items() if not path.name.startswith(".")}
        storage = storage_of(self.target)
        found = {}
        for info in storage.list(Listing()):
            with storage.open(info.path).stream as stream:
                found[info.path] = stream.read()
        return found
