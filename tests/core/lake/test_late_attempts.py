"""Attempts that are late, barred, or find that others were quicker: a lake's commit decides, and what was written before it counts for nothing."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from tests.core.lake.lake import TABLE, Lake, lake_of
from tests.core.modes.newer import Nightly

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.operate.marks import marks_of, reset_mark
from ultravect.core.errors import UltravectError


class _Late:
    """Rows of a table that go into a lake, and a run in which something happens before it publishes."""

    def __init__(self, form: str, folder: Path) -> None:
        self.lake: Lake = lake_of(form, folder)
        self._path = folder / "huts.sqlite"
        source = ConnectionSpec("huts", "sqlite", {"path": str(self._path)}, [str(folder)])
        self.sql("CREATE TABLE night (k integer primary key, v text)")
        self.nightly = Nightly(
            source, self.lake.spec, {"table": "night", "newer": {"by": "k"}}, {"table": TABLE, "mode": "append"}
        )

    def sql(self, statement: str) -> None:
        with closing(sqlite3.connect(self._path, isolation_level=None)) as session:
            session.execute(statement)

    def add(self, *keys: int) -> None:
        for key in keys:
            self.sql(f"INSERT INTO night (k, v) VALUES ({key}, 'v{key}')")

    def late(self, meanwhile: Callable[[], object], receipt: str = "late") -> str:
        """The code of the error with which a run ends that was planned, and had staged its rows, before ``meanwhile``."""

        class Shield:
            def __enter__(self) -> None:
                meanwhile()

            def __exit__(self, *error: object) -> None: ...

        try:
            run_leg(
                self.nightly.job,
                self.nightly.source,
                self.lake.spec,
                Copied(),
                receipt=receipt,
                shield=Shield,  # type: ignore[arg-type]
            )
        except UltravectError as error:
            return error.code
        return ""

    @property
    def mark(self) -> str:
        (mark,) = marks_of(self.nightly.job, self.nightly.source, self.lake.spec)
        return mark.value

    @property
    def keys(self) -> list[Any]:
        return [key for (key,) in self.lake.rows("k")]


@pytest.fixture(params=["delta", "iceberg"])
def late(tmp_path: Path, request: pytest.FixtureRequest) -> _Late:
    return _Late(request.param, tmp_path)


def test_a_late_attempt_moves_no_mark(late: _Late) -> None:
    """As it was found: the mark went back, and the next run copied a row twice."""
    late.add(1, 2)
    late.nightly.run()
    late.add(3)

    def overtaken() -> None:
        late.add(4)
        late.nightly.run()

    assert late.late(overtaken) == "mark-moved"
    assert late.mark == "4"
    late.add(5)
    late.nightly.run()
    assert (late.keys, late.mark) == ([1, 2, 3, 4, 5], "5")


def test_a_mark_that_is_reset_during_a_run_stays_reset(late: _Late) -> None:
    """As it was found: the mark said 9, and row 9 was never committed."""
    late.add(1)
    late.nightly.run()
    late.add(9)
    again = late.late(lambda: reset_mark(late.nightly.job, late.nightly.source, late.lake.spec, ""))
    assert (again, late.mark, late.keys) == ("mark-moved", "", [1])


@pytest.mark.parametrize("wide", [False, True])
def test_a_barred_attempt_commits_nothing(late: _Late, wide: bool) -> None:
    """As it was found: with a column to be added, it did."""
    late.add(1)
    late.nightly.run()
    late.nightly.data["into"]["if_different"] = "widen"
    if wide:
        late.sql("ALTER TABLE night ADD w integer")
    late.add(2)
    table = TableName(None, TABLE)

    def barred() -> None:
        assert late.lake.database.ledger(table).committed([ReceiptKey("late", 1)]) is None

    assert late.late(barred) == "attempt-replaced"
    assert (late.keys, late.mark) == ([1], "1")
    late.nightly.run()
    assert (late.keys, late.mark) == ([1, 2], "2")


@pytest.mark.parametrize("wide", [False, True])
@pytest.mark.parametrize("into", [{"mode": "overwrite"}, {"mode": "overwrite", "if_different": "rebuild"}])
def test_an_overwrite_takes_away_what_others_add_meanwhile(late: _Late, wide: bool, into: dict[str, Any]) -> None:
    """As it was found: with a column to be added, another writer's row was kept, next to those that replace all."""
    late.add(1)
    late.nightly.data["from"].pop("newer")
    late.nightly.run()
    late.nightly.data["into"] |= {"if_different": "widen", **into}
    if wide:
        late.sql("ALTER TABLE night ADD w integer")
    once = iter([True])
    # rows are read again where another writer was quicker
    assert late.late(lambda: next(once, None) and late.lake.append([{"k": 77, "v": "other"}])) == ""
    assert late.keys == [1]
