"""A draft is a job that checks and runs as it is: of any source into any target, whatever its columns are called."""

from __future__ import annotations

from pathlib import Path

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, REAL, Copied, Place
from hypothesis import example, given, settings
from hypothesis import strategies as st

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.look.draft import Drafted, draft
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.model.document import read_job
from ultravect.core.model.jobs.job import Job


def drafted(source: ConnectionSpec, read: str, target: ConnectionSpec, written: str) -> Job:
    """The job of a draft, which has nothing that must be fixed first."""
    job, _ = read_job(draft(source, target, Drafted(read, written)))
    assert check_job(job, source, target).passed
    return job


def load(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> LegResult:
    return run_leg(job, source, target, Copied())


@pytest.fixture
def folder(tmp_path: Path) -> ConnectionSpec:
    return ConnectionSpec("files", "folder", {"path": str(tmp_path)}, [str(tmp_path)])


@pytest.mark.parametrize("source", REAL)
@pytest.mark.parametrize("target", REAL)
def test_of_a_table_into_a_table(places: dict[str, Place], source: str, target: str) -> None:
    entry, other = places[source], places[target]
    table = f"drafted_from_{source}"
    other.drop(table)
    new = drafted(entry.spec, "torture", other.spec, table)
    result = load(new, entry.spec, other.spec)
    assert (result.created, result.tally.inserted, result.tally.rejected) == (True, 3, 0)
    # and once more into the table that is there now, which is drafted otherwise
    known = drafted(entry.spec, "torture", other.spec, table)
    assert load(known, entry.spec, other.spec).rows_after == 6
    assert [item.split()[0] for item in known.columns] == [item.split()[0] for item in new.columns]
    other.drop(table)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("ending", ["csv", "jsonl", "parquet"])
def test_of_a_table_into_a_file_and_back(
    places: dict[str, Place], folder: ConnectionSpec, tmp_path: Path, kind: str, ending: str
) -> None:
    place = places[kind]
    name = f"of day/torture {{run_date}}.{ending}"
    job = drafted(place.spec, "torture", folder, name)
    assert job.job == "torture-into-torture"
    assert load(job, place.spec, folder).tally.inserted == 3
    (written,) = tmp_path.rglob(f"*.{ending}")
    table = f"back_from_{ending}"
    place.drop(table)
    back = drafted(folder, str(written.relative_to(tmp_path)), place.spec, table)
    result = load(back, folder, place.spec)
    assert (result.tally.inserted, result.tally.rejected) == (3, 0)
    place.drop(table)


NAMES = st.lists(
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), min_size=1, max_size=12).filter(
        str.strip
    ),
    min_size=1,
    max_size=5,
    unique_by=lambda name: name.strip().lower(),
)


@pytest.mark.parametrize("kind", REAL)
@settings(max_examples=5, deadline=None)
@given(names=NAMES)
@example(names=["- a", "b: c", "# d", "* except (x)", "as"])
@example(names=['"', "'", "null", "a as b", "select"])
@example(names=["{x}", "[y]", "&z", "!t", "%"])
@example(names=["0\x850", "0\u20280", "0 \u2029 0"])
@example(names=["a\nfrom: {connection: x}", "tab\there", "\ufffe"])
@example(names=["Größe", "größe 2", "true", "1", "1.5"])
def test_whatever_columns_are_called(places: dict[str, Place], kind: str, names: list[str]) -> None:
    source, place = places["sqlite"], places[kind]
    source.drop("odd_source")
    place.drop("odd_names")
    declared = ", ".join('"' + name.replace('"', '""') + '" text' for name in names)
    source.sql(f"CREATE TABLE odd_source ({declared})")
    rows = [tuple(f"{name} {number}" for name in names) for number in range(3)]
    for row in rows:
        source.sql(f"INSERT INTO odd_source VALUES ({', '.join(_literal(value) for value in row)})")
    job = drafted(source.spec, "odd_source", place.spec, "odd_names")
    assert load(job, source.spec, place.spec).tally.inserted == 3
    assert sorted(place.sql("SELECT * FROM odd_names")) == sorted(rows)
    again = drafted(source.spec, "odd_source", place.spec, "odd_names")
    assert load(again, source.spec, place.spec).rows_after == 6


def _literal(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"
