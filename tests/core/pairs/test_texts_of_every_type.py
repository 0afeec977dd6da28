"""Every type that becomes text is one text: in new tables and in those that are there, in keys, expressions and files, in every target."""

from __future__ import annotations

import csv
import datetime as dt
import decimal
import hashlib
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.model.document import read_job
from ultravect.core.types.arrow import as_text
from ultravect.core.types.canonical import parse_type

_TEXTS = {
    "mariadb": "varchar(64) COLLATE utf8mb4_bin",
    "sqlserver": "nvarchar(64)",
    "postgresql": "text",
    "sqlite": "text",
    "duckdb": "varchar",
}
_DAYS = st.dates(dt.date(1583, 1, 1), dt.date(9998, 12, 31))
_MOMENTS = st.datetimes(dt.datetime(1583, 1, 1), dt.datetime(9998, 12, 31))
VALUES: dict[str, st.SearchStrategy[Any]] = {
    "boolean": st.booleans(),
    "smallint": st.integers(-(2**15), 2**15 - 1),
    "integer": st.integers(-(2**31), 2**31 - 1),
    "bigint": st.integers(-(2**63), 2**63 - 1),
    "decimal(18,4)": st.decimals(-(10**13), 10**13, places=4).map(
        lambda value: value.quantize(decimal.Decimal("0.0001"))
    ),
    "real": st.floats(-(2.0**90), 2.0**90, width=32),
    "double": st.floats(-1e300, 1e300),
    "date": _DAYS,
    "time": st.times(),
    "timestamp": _MOMENTS,
    "timestamptz": _MOMENTS.map(lambda value: value.replace(tzinfo=dt.UTC)),
    "uuid": st.uuids().map(lambda value: value.bytes),
}


def _store(arrays: dict[str, pa.Array], path: Path) -> None:
    """As Parquet that says of UUIDs that they are such."""
    columns = {"n": pa.array(range(len(arrays["uuid"])), pa.int64()), **arrays, "uuid": as_text(arrays["uuid"])}
    with duckdb.connect() as session:
        session.register("given", pa.table(columns))
        session.execute("SET TimeZone = 'UTC'")
        session.execute(
            f"COPY (SELECT * REPLACE (CAST(uuid AS UUID) AS uuid) FROM given) TO '{path}' (FORMAT parquet)"
        )


def _rendered(folder: Path, target: Place, columns: str, into: str) -> None:
    source = ConnectionSpec("source", "folder", {"path": str(folder)}, [str(folder)])
    job, _ = read_job(
        f"ultravect: 1\njob: texts\nfrom: {{connection: source, files: values.parquet}}\ncolumns:\n{columns}\n"
        f"into: {{connection: target, {into}}}\n"
    )
    run_leg(job, source, target.spec, Copied())


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=2, suppress_health_check=list(HealthCheck), deadline=None)
@given(data=st.data())
def test_all_ways_give_the_same(
    places: dict[str, Place], tmp_path_factory: pytest.TempPathFactory, kind: str, data: st.DataObject
) -> None:
    folder, target = tmp_path_factory.mktemp("texts"), places[kind]
    arrays = {
        name.split("(")[0]: pa.array(
            data.draw(st.lists(values, min_size=4, max_size=4), label=name), parse_type(name).arrow
        )
        for name, values in VALUES.items()
    }
    _store(arrays, folder / "values.parquet")
    wanted = {name: as_text(array).to_pylist() for name, array in arrays.items()}
    ways = {
        "declared": "{name} text(60)",
        "cast": "cast({name} as text) as {name} text(60)",
        "joined": "{name} || '' as {name} text(60)",
        "hashed": "sha256({name}) as {name} text(64)",
    }
    for way, form in ways.items():
        columns = "\n".join(["- n", *(f"- {form.format(name=name)}" for name in arrays)])
        for there in (False, True):
            target.drop("one_text")
            if there:
                made = ", ".join(["n bigint", *(f"{target_quote(kind, name)} {_TEXTS[kind]}" for name in arrays)])
                target.sql(f"CREATE TABLE one_text ({made})")
            _rendered(folder, target, columns, "table: one_text")
            for name in arrays:
                found = target.sql(f"SELECT {target_quote(kind, name)} FROM one_text ORDER BY n")
                texts = map(_hashed, wanted[name]) if way == "hashed" else wanted[name]
                assert [row[0] for row in found] == list(texts), (way, there, name)
    # as a key, each row is found again
    target.drop("one_text")
    columns = "\n".join(["- n", *(f"- {name} text(60)" for name in arrays)])
    keys = ["uuid", "timestamp", "double"]
    for _ in range(2):
        _rendered(folder, target, columns, f"table: one_text, mode: upsert, keys: [{', '.join(keys)}]")
    different = set(zip(*(wanted[key] for key in keys), strict=True))
    assert target.sql("SELECT count(*) FROM one_text")[0][0] == len(different)
    target.drop("one_text")


def _hashed(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def target_quote(kind: str, name: str) -> str:
    return {"mariadb": f"`{name}`", "sqlserver": f"[{name}]"}.get(kind, f'"{name}"')


@settings(max_examples=5, suppress_health_check=list(HealthCheck), deadline=None)
@given(data=st.data())
def test_files_have_the_same(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    folder = tmp_path_factory.mktemp("texts")
    arrays = {
        name.split("(")[0]: pa.array(
            data.draw(st.lists(values, min_size=3, max_size=3), label=name), parse_type(name).arrow
        )
        for name, values in VALUES.items()
    }
    _store(arrays, folder / "values.parquet")
    spec = ConnectionSpec("out", "folder", {"path": str(folder)}, [str(folder)])
    _rendered(
        folder,
        Place("folder", spec, lambda statement: []),
        "\n".join(f"- {name} text" for name in arrays),
        "files: texts.csv",
    )
    with (folder / "texts.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    for name, array in arrays.items():
        assert [row[name] for row in rows] == as_text(array).to_pylist(), name
