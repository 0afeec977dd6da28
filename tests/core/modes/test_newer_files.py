"""Only files that are new: by name, size and time, or by their content."""

from __future__ import annotations

import datetime as dt
import os
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Place
from tests.core.modes.newer import Nightly

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.operate.marks import marks_of, reset_mark
from ultravect.core.errors import UltravectError


def _spec(folder: Path, name: str = "incoming") -> ConnectionSpec:
    return ConnectionSpec(name, "folder", {"path": str(folder)}, [str(folder)])


def _write(folder: Path, name: str, *rows: int, age: float = 100) -> Path:
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text("k\n" + "".join(f"{row}\n" for row in rows))
    moment = dt.datetime.now().timestamp() - age
    os.utime(path, (moment, moment))
    return path


def _nightly(folder: Path, target: Place | ConnectionSpec, options: Any = None, **into: Any) -> Nightly:
    newer = "files" if options is None else {"files": options}
    given = {"files": "in/*.csv", "newer": newer, "layout": {"format": "delimited", "delimiter": ","}}
    return Nightly(_spec(folder), target, given, {"table": "newer_files", **into} if "files" not in into else into)


def _held(place: Place) -> list[int]:
    return sorted(int(row[0]) for row in place.sql("SELECT k FROM newer_files"))


@pytest.mark.parametrize("kind", KINDS)
def test_files_are_copied_once(places: dict[str, Place], tmp_path: Path, kind: str) -> None:
    place = places[kind]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place)
    _write(tmp_path, "in/a b'\"{x}.csv", 1, 2)
    _write(tmp_path, "in/b.csv", 3)
    assert nightly.run().tally.inserted == 3
    assert nightly.run().nothing == "no file is new"
    _write(tmp_path, "in/c.csv", 4)
    assert nightly.run().tally.inserted == 1
    assert _held(place) == [1, 2, 3, 4]
    (mark,) = marks_of(nightly.job, nightly.source, place.spec)
    assert mark.files == 3
    reset_mark(nightly.job, nightly.source, place.spec, "")
    assert nightly.run().tally.inserted == 4


@pytest.mark.parametrize(("changed", "held"), [("again", [1, 1, 2, 3]), ("ignore", [1, 2]), ("fail", [1, 2])])
def test_a_file_that_changed_is_copied_again_ignored_or_refused(
    places: dict[str, Place], tmp_path: Path, changed: str, held: list[int]
) -> None:
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place, {"changed": changed})
    _write(tmp_path, "in/a.csv", 1, 2)
    nightly.run()
    _write(tmp_path, "in/a.csv", 1, 3, age=5) if changed == "again" else _write(tmp_path, "in/a.csv", 9, age=5)
    if changed == "fail":
        with pytest.raises(UltravectError) as refused:
            nightly.run()
        assert refused.value.code == "files-changed"
    else:
        nightly.run()
    assert _held(place) == held


def test_content_is_known_under_another_name(places: dict[str, Place], tmp_path: Path) -> None:
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place, {"compare": "checksum"})
    _write(tmp_path, "in/a.csv", 1, 2)
    _write(tmp_path, "in/copy.csv", 1, 2)
    assert nightly.run().tally.inserted == 2
    _write(tmp_path, "in/again.csv", 1, 2)
    _write(tmp_path, "in/a.csv", 1, 2, age=3)  # another time, the same content
    assert nightly.run().nothing
    assert _held(place) == [1, 2]


def test_files_that_still_grow_are_left_for_the_next_run(places: dict[str, Place], tmp_path: Path) -> None:
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place, {"settled": "30 s"})
    _write(tmp_path, "in/a.csv", 1)
    growing = _write(tmp_path, "in/b.csv", 2, age=0)
    assert "files-unsettled" in nightly.codes()
    assert nightly.run().tally.inserted == 1
    os.utime(growing, (1, 1))
    assert nightly.run().tally.inserted == 1


@pytest.mark.parametrize("then", ["delete", {"move": "done"}])
def test_files_go_where_the_job_says_once_they_are_committed(
    places: dict[str, Place], tmp_path: Path, then: Any
) -> None:
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place, {"then": then})
    _write(tmp_path, "in/a.csv", 1)
    _write(tmp_path, "done/a.csv", 7)  # of an earlier day
    assert nightly.run().tally.inserted == 1
    assert not list((tmp_path / "in").iterdir())
    moved = sorted(path.name for path in (tmp_path / "done").iterdir())
    assert moved == (["a.csv"] if then == "delete" else ["a-2.csv", "a.csv"])
    nightly.data["from"]["allow_none"] = True
    assert nightly.run().nothing


def test_a_mark_goes_with_files_that_are_written(tmp_path: Path) -> None:
    source, target = tmp_path / "source", tmp_path / "target"
    target.mkdir()
    nightly = _nightly(source, _spec(target, "exports"), files="all-{run_id}.csv")
    _write(source, "in/a.csv", 1)
    nightly.run()
    assert nightly.run().nothing
    _write(source, "in/b.csv", 2)
    assert nightly.run(repeated=False).tally.inserted == 1
    assert nightly.run(repeated=True).tally.inserted == 1  # another worker takes the same run over
    assert nightly.run().nothing


def test_moving_into_the_folder_that_is_read_is_refused(places: dict[str, Place], tmp_path: Path) -> None:
    nightly = _nightly(tmp_path, places["sqlite"], {"then": {"move": "in"}})
    _write(tmp_path, "in/a.csv", 1)
    assert "moved-into-source" in nightly.codes()


@pytest.mark.parametrize("then", ["delete", {"move": "done"}])
@pytest.mark.parametrize("same_size", [True, False])
def test_a_file_that_was_replaced_after_it_was_read_stays(
    places: dict[str, Place], tmp_path: Path, then: Any, same_size: bool
) -> None:
    """As it was found: the new one was removed, and its rows were nowhere."""
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place, {"then": then})
    _write(tmp_path, "in/a.csv", 1)
    nightly.heard.published = lambda receipt: _write(  # type: ignore[method-assign]
        tmp_path, "in/a.csv", *([2] if same_size else [2, 3]), age=7
    )
    said: list[str] = []
    nightly.heard.log = lambda level, text: said.append(text)  # type: ignore[method-assign]
    run_leg(nightly.job, nightly.source, nightly.target, nightly.heard, receipt=f"replaced-{same_size}-{then}")
    assert "replaced since it was read" in str(said)
    assert not (tmp_path / "done").exists()
    assert nightly.run().tally.inserted == (1 if same_size else 2)
    assert _held(place) == [1, 2] + [3] * (not same_size)
    assert not list((tmp_path / "in").iterdir())


def test_the_content_of_a_file_that_was_replaced_is_known_too(places: dict[str, Place], tmp_path: Path) -> None:
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place, {"compare": "checksum"})
    for number, row in enumerate((1, 2, 3)):
        _write(tmp_path, "in/latest.csv", row, age=100 - number)
        assert nightly.run().tally.inserted == 1
    for name, row in (("in/first.csv", 1), ("in/second.csv", 2), ("in/latest.csv", 1)):
        _write(tmp_path, name, row, age=50)
        assert nightly.run().nothing, name
    assert _held(place) == [1, 2, 3]


def test_files_that_were_copied_into_a_table_that_is_gone_are_new(places: dict[str, Place], tmp_path: Path) -> None:
    """Those that were away when the table was made anew, too."""
    place = places["sqlite"]
    place.drop("newer_files")
    nightly = _nightly(tmp_path, place)
    away = _write(tmp_path, "in/a.csv", 1)
    _write(tmp_path, "in/b.csv", 2)
    assert nightly.run().tally.inserted == 2
    place.drop("newer_files")
    away.rename(tmp_path / "a.csv")
    assert nightly.run().tally.inserted == 1
    (tmp_path / "a.csv").rename(away)
    assert nightly.run().tally.inserted == 1
    assert nightly.run().nothing
    assert _held(place) == [1, 2]
