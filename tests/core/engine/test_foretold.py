"""What check lets pass succeeds, and what it refuses fails: a problem is known before a row moves."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

NAMES = ("hut", "nights", "arrival", "Price")
NATIVE = st.sampled_from(
    ["varchar(3)", "varchar(40)", "integer", "smallint", "bigint", "decimal(5,2)", "date", "boolean", "timestamp"]
)
COLUMN = st.tuples(
    st.sampled_from([*NAMES, "price", "other"]), NATIVE, st.sampled_from(["", "NOT NULL", "DEFAULT 1"])
).filter(lambda column: column[2] != "DEFAULT 1" or column[1] not in ("date", "timestamp"))  # no value of the type
TABLE = st.none() | st.lists(COLUMN, min_size=1, max_size=4, unique_by=lambda item: item[0].lower())
VALUE = st.sampled_from(["", "1", "-2", "7.25", "70000", "007", "soup", "2026-07-01", "true", "2026-07-01 10:00:00"])
HEADER = st.lists(st.sampled_from(NAMES), min_size=1, max_size=3, unique=True)
KEYS = st.lists(st.sampled_from(NAMES), min_size=1, max_size=2, unique=True)
MODE = st.sampled_from(["append", "overwrite"]).map(lambda mode: {"mode": mode}) | st.fixed_dictionaries(
    {"mode": st.sampled_from(["upsert", "overwrite", "append"]), "keys": KEYS},
    optional={"repeats": st.sampled_from(["first", "fail"])},
)
INTO = st.fixed_dictionaries(
    {},
    optional={
        "if_different": st.sampled_from(["fail", "ignore", "widen"]),
        "if_missing": st.sampled_from(["create", "fail"]),
        "rejects": st.sampled_from([1, "50%"]),
        "only_if_empty": st.booleans(),
    },
)


@st.composite
def files(draw: st.DrawFn) -> list[list[str]]:
    header = draw(HEADER)
    # values of one kind come more often than a mixture
    columns = [draw(st.lists(VALUE, min_size=3, max_size=3) | VALUE.map(lambda item: [item] * 3)) for _ in header]
    return [header, *map(list, zip(*columns, strict=True))]


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=9, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(table=TABLE, rows=files(), into=INTO, mode=MODE)
def test_a_check_foretells_the_run(
    places: dict[str, Place],
    tmp_path: Path,
    kind: str,
    table: Any,
    rows: list[list[str]],
    into: dict[str, Any],
    mode: dict[str, Any],
) -> None:
    place = places[kind]
    place.drop("foretold")
    if table is not None:
        mark = "`" if kind == "mariadb" else '"'
        declared = ", ".join(f"{mark}{name}{mark} {native} {more}" for name, native, more in table)
        try:
            place.sql(f"CREATE TABLE foretold ({declared})")
        except Exception:
            return  # a default that is none of the type
    with (tmp_path / "rows.csv").open("w", newline="") as file:
        csv.writer(file).writerows(rows)
    source = ConnectionSpec("incoming", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    layout = {"format": "delimited", "delimiter": ",", "header": True}
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "foretold",
            "from": {"connection": "incoming", "files": "rows.csv", "layout": layout},
            "into": {"connection": place.spec.name, "table": "foretold", **mode, **into},
        }
    )
    checked = check_job(job, source, place.spec)
    failed = ""
    try:
        result = run_leg(job, source, place.spec, Copied())
        assert result.rows_after == len(place.sql("SELECT * FROM foretold"))
    except UltravectError as error:
        failed = f"{error.code}: {error.detail}"
    assert checked.passed == (not failed), (failed, [str(finding) for finding in checked.findings])
    place.drop("foretold")
