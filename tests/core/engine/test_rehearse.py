"""What a rehearsal says is what a run does: the same rows at each step, the same rejects, the same values."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied, Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.engine.look.rehearse import rehearse
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job

ROW = st.tuples(
    st.sampled_from(["1", "2", "30", "", "two", "007", "99999999999"]),
    st.sampled_from(["1.50", "12", "-1", "1.505", "n/a", ""]),
    st.sampled_from(["soup", "", "a very long dish", "ü"]),
)
COLUMNS = ["hut integer", "price * 2 as double_price decimal(6,2)", "upper(dish) as dish text(8)"]


@pytest.fixture
def target(places: dict[str, Place], kind: str) -> Iterator[Place]:
    places[kind].drop("rehearsed")
    yield places[kind]
    places[kind].drop("rehearsed")


def job_of(folder: Path, rows: list[tuple[str, ...]], place: Place, rejects: int, where: str | None) -> Job:
    text = "hut,price,dish\n" + "".join(",".join(row) + "\n" for row in [("1", "1.0", "x"), *rows])
    (folder / "menu.csv").write_text(text)
    source: dict[str, Any] = {"connection": "menus", "files": "menu.csv"}
    source["layout"] = {"format": "delimited", "values": {"nulls": ["", "n/a"]}}
    if where:
        source["where"] = where
    into = {"connection": place.spec.name, "table": "rehearsed", "rejects": rejects}
    return job_from_data({"ultravect": 1, "job": "menu", "from": source, "into": into, "columns": COLUMNS})


def ran(job: Job, source: ConnectionSpec, target: Place, heard: Copied) -> LegResult | UltravectError:
    try:
        return run_leg(job, source, target.spec, heard)
    except UltravectError as error:
        return error


def as_text(value: Any) -> str | None:
    """As a rehearsal writes it: numbers without zeros at their end."""
    if isinstance(value, Decimal):
        return f"{value.normalize():f}"
    return None if value is None else str(value)


@pytest.mark.parametrize("kind", ["postgresql", "duckdb"])
@settings(max_examples=9, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    rows=st.lists(ROW, max_size=8),
    rejects=st.sampled_from([0, 1, 20]),
    where=st.sampled_from([None, "dish <> 'soup'", "dish is null or length(dish) < 9"]),
)
def test_it_says_what_a_run_does(
    target: Place, tmp_path: Path, rows: list[tuple[str, ...]], rejects: int, where: str | None
) -> None:
    target.drop("rehearsed")
    source = ConnectionSpec("menus", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    job = job_of(tmp_path, rows, target, rejects, where)
    said = rehearse(job, source, target.spec, rows=None)
    assert said.complete
    heard = Copied()
    done = ran(job, source, target, heard)
    assert said.passed == isinstance(done, LegResult), (said.would_fail, done)
    if not isinstance(done, LegResult):
        assert said.would_fail or done.code in {finding.code for finding in said.findings}
        return
    read, filtered, shaped = said.steps
    assert (read["rows_in"], read["rows_out"] - filtered["rows_out"]) == (done.tally.read, done.tally.filtered)
    assert (shaped["rejected"], shaped["rows_out"]) == (done.tally.rejected, done.tally.inserted)
    assert said.rejects == heard.rejected
    shown = [tuple(row["after"]) for row in said.rows]
    loaded = [tuple(map(as_text, row)) for row in target.sql("SELECT * FROM rehearsed")]
    assert sorted(shown, key=str) == sorted(loaded, key=str)


@pytest.mark.parametrize("kind", ["sqlite"])
def test_files_that_are_copied_as_they_are_have_no_rows(target: Place, tmp_path: Path) -> None:
    source = ConnectionSpec("menus", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "menu",
            "from": {"connection": "menus", "files": "**"},
            "into": {"connection": "menus", "folder": "kept"},
        }
    )
    with pytest.raises(UltravectError) as raised:
        rehearse(job, source, source)
    assert raised.value.code == "nothing-to-rehearse"
