"""What tests of lake tables share: a lake in a folder, and a reader of its tables that is neither ours nor the library's."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq
from deltalake import DeltaTable, write_deltalake
from devtools.pairs import Place
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.table import Table
from tests.core.modes.writing import Writer

from ultravect.core.engine.objects.connections import ConnectionSpec, database_of

TABLE = "modes"


def log_of(table: Path, version: int | None = None) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
    """Metadata and the files of a table, by replaying the commits of its log as the protocol says."""
    metadata: dict[str, Any] = {}
    files: dict[str, dict[str, Any]] = {}
    for commit in sorted((table / "_delta_log").glob("*.json")):
        if version is not None and int(commit.stem) > version:
            break
        for line in commit.read_text().splitlines():
            action = json.loads(line)
            if "metaData" in action:
                metadata = action["metaData"]
            elif "add" in action:
                files[action["add"]["path"]] = action["add"]
            elif "remove" in action:
                files.pop(action["remove"]["path"], None)
    return metadata, files


def rows_of(table: Path, version: int | None = None) -> list[dict[str, Any]]:
    """The rows of a table: its files' own, with the values of their partitions as texts."""
    metadata, files = log_of(table, version)
    names = [field["name"] for field in json.loads(metadata["schemaString"])["fields"]]
    rows = []
    for path, add in files.items():
        held = pq.ParquetFile(table / unquote(path)).read().to_pylist()
        assert json.loads(add["stats"])["numRecords"] == len(held)
        rows += [{name: {**row, **add["partitionValues"]}.get(name) for name in names} for row in held]
    return rows


class Lake:
    """A lake in a folder, and loads into one of its tables."""

    format = "delta"

    def __init__(self, folder: Path, settings: Mapping[str, Any] | None = None) -> None:
        self.folder = folder / "lake"
        self.folder.mkdir(exist_ok=True)
        self.spec = ConnectionSpec("season", "lake", {"path": str(self.folder), **(settings or {})}, [str(folder)])
        self.writer = Writer(Place("lake", self.spec, self._sql), folder, TABLE)
        self.load, self.check = self.writer.load, self.writer.check
        self.database = database_of(self.spec)

    @property
    def table(self) -> Path:
        return self.folder / TABLE

    def _sql(self, statement: str) -> list[tuple[Any, ...]]:
        """A question, answered over the rows that ``rows_of`` finds."""
        with duckdb.connect() as session:
            rows = self.held()
            session.register(TABLE, pa.Table.from_pylist(rows))
            return session.execute(statement).fetchall()

    def rows(self, *columns: str) -> list[tuple[Any, ...]]:
        found = (tuple(row[name] for name in columns or ("k", "v")) for row in self.held())
        return sorted(found, key=lambda row: [(value is not None, 0 if value is None else value) for value in row])

    def held(self, name: str = TABLE) -> list[dict[str, Any]]:
        return rows_of(self.folder / name)

    def append(self, rows: list[dict[str, Any]]) -> None:
        """Another program adds rows."""
        write_deltalake(str(self.table), pa.Table.from_pylist(rows), mode="append")

    def insert(self, row: dict[str, Any], name: str) -> None:
        """Another program adds a row that has not all columns."""
        write_deltalake(str(self.folder / name), pa.Table.from_pylist([row]), mode="append", schema_mode="merge")

    def versions(self) -> list[int]:
        return list(range(DeltaTable(str(self.table)).version() + 1))

    def files(self) -> int:
        return len(list(self.table.rglob("*.parquet")))


class IcebergLake(Lake):
    """The same of tables in the other format, which the format's own library reads and writes as another program."""

    format = "iceberg"

    def __init__(self, folder: Path, settings: Mapping[str, Any] | None = None) -> None:
        super().__init__(folder, {"format": self.format, **(settings or {})})

    def catalogue(self) -> SqlCatalog:
        place = f"file://{self.folder}"
        return SqlCatalog("default", uri=f"sqlite:///{self.folder}/catalogue.sqlite", warehouse=place)

    def opened(self, name: str = TABLE) -> Table:
        return self.catalogue().load_table(("main", name))

    def held(self, name: str = TABLE) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.opened(name).scan().to_arrow().to_pylist()
        return found

    def append(self, rows: list[dict[str, Any]]) -> None:
        table = self.opened()
        table.append(pa.Table.from_pylist(rows).cast(table.schema().as_arrow()))

    def insert(self, row: dict[str, Any], name: str) -> None:
        table = self.opened(name)
        schema = table.schema().as_arrow()
        table.append(pa.Table.from_pylist([{field: row.get(field) for field in schema.names}], schema=schema))

    def versions(self) -> list[int]:
        return [entry.snapshot_id for entry in self.opened().history()]


def lake_of(form: str, folder: Path, settings: Mapping[str, Any] | None = None) -> Lake:
    return IcebergLake(folder, settings) if form == "iceberg" else Lake(folder, settings)
