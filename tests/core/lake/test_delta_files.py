"""Delta tables that others wrote with marks of deleted rows or with other names in files: against the library's own reader."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from deltalake import DeltaTable, write_deltalake
from pyroaring import BitMap64
from tests.core.lake.lake import TABLE, Lake

from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError

_Z85 = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-:+=^!/*?&<>()[]{}@%$#"
_MAGIC = 1681511377


@pytest.fixture
def lake(tmp_path: Path) -> Lake:
    return Lake(tmp_path)


def _z85(given: bytes) -> str:
    padded, text = given + b"\0" * (-len(given) % 4), ""
    for start in range(0, len(padded), 4):
        number, digits = int.from_bytes(padded[start : start + 4], "big"), ""
        for _ in range(5):
            digits, number = _Z85[number % 85] + digits, number // 85
        text += digits
    return text


def _actions(log: Path, version: int) -> list[dict[str, Any]]:
    return [json.loads(line) for line in (log / f"{version:020}.json").read_text().splitlines()]


def _write(log: Path, version: int, actions: list[dict[str, Any]]) -> None:
    (log / f"{version:020}.json").write_text("".join(json.dumps(action) + "\n" for action in actions))


def _mark(table: Path, version: int, deleted: dict[str, list[int]]) -> None:
    """Marks rows of files as deleted, by a version of its own; ``deleted``: positions by the partition of the file."""
    log, features = table / "_delta_log", ["deletionVectors"]
    protocol = {"minReaderVersion": 3, "minWriterVersion": 7, "readerFeatures": features, "writerFeatures": features}
    actions: list[dict[str, Any]] = [{"protocol": protocol}]
    for action in _actions(log, 0):
        add = action.get("add")
        positions = deleted.get(add["partitionValues"]["p"]) if add else None
        if add is None or positions is None:
            continue
        marks = struct.pack("<i", _MAGIC) + BitMap64(positions).serialize()
        vector = {
            "storageType": "i",
            "pathOrInlineDv": _z85(marks),
            "sizeInBytes": len(marks),
            "cardinality": len(positions),
        }
        actions.append(
            {
                "remove": {
                    "path": add["path"],
                    "deletionTimestamp": 1,
                    "dataChange": True,
                    "partitionValues": add["partitionValues"],
                }
            }
        )
        actions.append({"add": {**add, "deletionVector": vector}})
    _write(log, version, actions)


def _scanned(table: Path) -> list[dict[str, Any]]:
    return sorted(pa.table(DeltaTable(str(table)).scan()).to_pylist(), key=str)


def _asked(lake: Lake, sql: str) -> list[Any]:
    return [tuple(row) for row in lake.database.ask(sql, 1000, 20).rows]


@pytest.fixture
def marked(lake: Lake) -> Lake:
    rows = {"k": list(range(10)), "p": ["a", "b"] * 5}
    write_deltalake(str(lake.table), pa.table(rows), partition_by=["p"])
    _mark(lake.table, 1, {"a": [0, 4]})
    return lake


def test_rows_that_are_marked_as_deleted_are_not_read(marked: Lake) -> None:
    assert [row["k"] for row in sorted(_scanned(marked.table), key=lambda row: row["k"])] == [1, 2, 3, 4, 5, 6, 7, 9]
    assert [int(k) for (k,) in _asked(marked, f"SELECT k FROM {TABLE} ORDER BY k")] == [1, 2, 3, 4, 5, 6, 7, 9]
    assert [int(n) for (n,) in _asked(marked, f'SELECT count(*) FROM "{TABLE}@0"')] == [10]


def test_a_table_with_marks_takes_new_rows_and_keeps_its_marks(marked: Lake) -> None:
    result = marked.load([(77, "a")], ("k", "p"), mode="append")
    assert (result.rows_before, result.rows_after) == (8, 9)
    assert {row["k"] for row in _scanned(marked.table)} == {1, 2, 3, 4, 5, 6, 7, 9, 77}


def test_only_files_without_marks_are_replaced(marked: Lake) -> None:
    before = _scanned(marked.table)
    with pytest.raises(UltravectError) as refused:
        marked.load([(1, "z")], ("k", "p"), mode="overwrite")
    assert refused.value.code == "table-feature"
    assert _scanned(marked.table) == before
    marked.load([(11, "b")], ("k", "p"), mode="overwrite", replaces="p = 'b'")
    assert {row["k"] for row in _scanned(marked.table)} == {2, 4, 6, 11}


@pytest.mark.parametrize("mode", ["name", "id"])
def test_columns_are_read_by_their_names_in_files(lake: Lake, mode: str) -> None:
    nested = pa.struct(
        [("i", pa.int64()), ("l", pa.list_(pa.struct([("x", pa.string())]))), ("m", pa.map_(pa.string(), pa.int64()))]
    )
    values = [{"i": 1, "l": [{"x": "a"}, None], "m": [("q", 1)]}, None, {"i": None, "l": None, "m": None}]
    table = pa.table({"c1": [1, 2, 3], "cp": ["x", "y", None], "cn": pa.array(values, nested)})
    write_deltalake(str(lake.table), table, partition_by=["cp"])
    log = lake.table / "_delta_log"
    actions = _actions(log, 0)
    metadata = next(action["metaData"] for action in actions if "metaData" in action)
    schema = json.loads(metadata["schemaString"])
    numbers: dict[str, int] = {}
    # where numbers count, names in files mean nothing
    prefix = "other " if mode == "id" else ""

    def rename(field: dict[str, Any]) -> None:
        numbers[field["name"]] = len(numbers) + 1
        field["metadata"] = {
            "delta.columnMapping.physicalName": prefix + field["name"],
            "delta.columnMapping.id": len(numbers),
        }
        field["name"] = f"the {field['name']}"
        kind = field["type"]
        while isinstance(kind, dict):
            for inner in kind.get("fields", ()):
                rename(inner)
            kind = kind.get("elementType")

    for field in schema["fields"]:
        rename(field)
    metadata["schemaString"] = json.dumps(schema)
    metadata["partitionColumns"] = ["the cp"]
    metadata["configuration"] = {
        "delta.columnMapping.mode": mode,
        "delta.columnMapping.maxColumnId": str(len(numbers)),
    }
    for action in actions:
        if "protocol" in action:
            action["protocol"] = {"minReaderVersion": 2, "minWriterVersion": 5}
        if mode == "id" and "add" in action:
            values = action["add"]["partitionValues"]
            action["add"]["partitionValues"] = {prefix + name: value for name, value in values.items()}
            _number(lake.table / action["add"]["path"], numbers)
            action["add"]["size"] = (lake.table / action["add"]["path"]).stat().st_size
    _write(log, 0, actions)
    described = lake.database.table(TableName(None, TABLE))
    assert {column.name for column in described.columns} == {"the c1", "the cp", "the cn"}
    rows = _asked(
        lake, f'SELECT "the c1", "the cp", "the cn"."the i", "the cn"."the l"[1]."the x" FROM {TABLE} ORDER BY 1'
    )
    assert [tuple(map(str, row)) for row in rows] == [
        ("1", "x", "1", "a"),
        ("2", "y", "None", "None"),
        ("3", "None", "None", "None"),
    ]
    with pytest.raises(UltravectError) as refused:
        lake.load([(1, "x")], ("the c1", "the cp"), mode="append")
    assert refused.value.code == "table-feature"


def _number(path: Path, numbers: dict[str, int]) -> None:
    """Gives columns of a file their numbers."""
    table = pq.read_table(path)

    def numbered(field: pa.Field) -> pa.Field:
        kind = field.type
        if pa.types.is_struct(kind):
            kind = pa.struct([numbered(inner) for inner in kind])
        elif pa.types.is_list(kind):
            kind = pa.list_(numbered(kind.value_field))
        number = numbers.get(field.name)
        if number is None:
            return field.with_type(kind)
        return pa.field(field.name, kind, metadata={"PARQUET:field_id": str(number)})

    schema = pa.schema([numbered(field) for field in table.schema])
    pq.write_table(table.cast(schema), path)
