"""A load is undone where what was before it is known, and refused in words where it is not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place
from tests.core.modes.writing import Writer

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.operate.undo import undo_leg
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.engine.run.rejected.row_selection import SelectionByRows
from ultravect.core.errors import UltravectError

KEPT: dict[str, Any] = {"mode": "overwrite", "keep_previous": 1}
TAGGED: dict[str, Any] = {"columns": ["k", "v", "run_id() as load_run text(20)"]}


class Undoing(Writer):
    """A ``Writer`` whose runs have numbers, as the service gives them, and can be undone."""

    number = 0

    def numbered(self, rows: Sequence[Sequence[Any]], **into: Any) -> LegResult:
        self.number += 1
        job = self.job(rows, ("k", "v"), dict(into))
        facts = RunFacts(str(self.number))
        return run_leg(
            job, self.source, self.place.spec, Copied(), run_id=facts.id, facts=facts, receipt=self._name(self.number)
        )

    def _name(self, number: int) -> str:
        return f"{number}-20260701T0000{number:02}000000"

    def undo(self, number: int, *, taken_over: bool = False, **into: Any) -> LegResult:
        """``taken_over``: as the run that takes over the undo before."""
        self.heard = Copied()
        self.number += not taken_over
        job = self.job([], ("k", "v"), dict(into))
        facts = RunFacts(str(number))
        name, own = self._name(number), self._name(self.number)
        receipt, earlier = (f"{own}.2", [own]) if taken_over else (own, [])
        return undo_leg(
            job,
            self.place.spec,
            self.heard,
            facts=facts,
            loads=[ReceiptKey(name)],
            receipt=ReceiptKey(receipt),
            earlier=[ReceiptKey(item) for item in earlier],
        )

    def refused(self, number: int, **into: Any) -> str:
        held = self.rows()
        with pytest.raises(UltravectError) as raised:
            self.undo(number, **into)
        assert raised.value.code == "undo-refused"
        assert self.rows() == held
        return raised.value.detail


@pytest.fixture
def writer(places: dict[str, Place], tmp_path: Path, kind: str) -> Iterator[Undoing]:
    writer = Undoing(places[kind], tmp_path)
    for table in ("modes", "ultravect_receipt"):
        places[kind].drop(table)
    yield writer
    # what was kept is looked for by other tests
    for table in writer.left_behind():
        places[kind].drop(table)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("keys", [[], ["k"]])
def test_an_overwrite_is_undone_from_the_content_that_it_kept(writer: Undoing, keys: list[str]) -> None:
    into = {**KEPT, "keys": keys}
    writer.numbered([(1, "soup"), (2, None)], keys=keys)
    writer.numbered([(3, "cake")], **into)
    writer.numbered([(4, "tart"), (5, "pie")], **into)
    assert len(writer.left_behind()) == 1  # one earlier content is kept, not two
    assert "run 3 loaded into" in writer.refused(2, **into) or "no longer there" in writer.refused(2, **into)
    undone = writer.undo(3, **into)
    assert (undone.rows_before, undone.rows_after) == (2, 1)
    assert writer.rows() == [(3, "cake")]
    assert writer.left_behind() == []
    assert "no receipt" in writer.refused(3, **into)
    assert "no longer there" in writer.refused(2, **into)


@pytest.mark.parametrize("kind", KINDS)
def test_an_undo_is_refused_when_others_wrote_since(writer: Undoing) -> None:
    writer.numbered([(1, "soup")])
    writer.numbered([(2, "stew")], **KEPT)
    writer.place.sql("INSERT INTO modes (k, v) VALUES (9, 'theirs')")
    assert "holds 2 rows, not the 1" in writer.refused(2, **KEPT)
    writer.place.sql("DELETE FROM modes WHERE k = 9")
    writer.numbered([(3, "cake")], mode="append")
    assert "run 5 loaded into" in writer.refused(2, **KEPT) or "run 4 loaded into" in writer.refused(2, **KEPT)


@pytest.mark.parametrize("kind", KINDS)
def test_an_append_is_undone_by_the_number_of_its_run(writer: Undoing) -> None:
    writer.numbered([(1, "soup"), (2, "stew")], **TAGGED)
    writer.numbered([(3, "cake")], **TAGGED)
    # an earlier one too: its rows are its own
    assert writer.undo(1, **TAGGED).rows_after == 1
    assert writer.rows() == [(3, "cake")]
    writer.place.sql("UPDATE modes SET load_run = 'theirs'")
    assert "holds 0 rows of run 2, which loaded 1" in writer.refused(2, **TAGGED)


@pytest.mark.parametrize("kind", KINDS)
def test_an_undo_that_cannot_be_is_refused(writer: Undoing) -> None:
    writer.numbered([(1, "soup")])
    assert "rows name their run" in writer.refused(1)
    writer.numbered([(1, "stew")], mode="upsert", keys=["k"])
    assert "changes rows in their place" in writer.refused(3, mode="upsert", keys=["k"])
    writer.numbered([(2, "cake")], mode="overwrite")
    assert "keeps no earlier content" in writer.refused(5, mode="overwrite")
    assert "no receipt" in writer.refused(99)


@pytest.mark.parametrize("kind", KINDS)
def test_an_undo_that_was_committed_is_not_repeated(writer: Undoing) -> None:
    writer.numbered([(1, "soup")], **TAGGED)
    writer.undo(1, **TAGGED)
    again = writer.undo(1, taken_over=True, **TAGGED)
    assert again.rows_after == 0
    assert writer.heard.result is None


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("mode", ["append", "overwrite", "upsert"])
def test_rejected_rows_are_loaded_when_they_are_fixed(writer: Undoing, mode: str) -> None:
    into: dict[str, Any] = {"mode": mode, "columns": ["k integer", "v"], "rejects": 5, "keys": ["k"]}
    broken = [(1, "soup"), ("two", "stew"), (3, "cake"), (None, "tart")]
    writer.load(broken, **dict(into))
    assert [item.row for item in writer.heard.rejected] == [2, 4]
    pick = SelectionByRows({"rows.csv": [2, 4]})
    mended = [(1, "changed"), (2, "stew"), (3, "cake"), (4, "tart")]
    job = writer.job(mended, ("k", "v"), dict(into))
    result = run_leg(job, writer.source, writer.place.spec, Copied(), receipt=f"pick-{mode}", selection=pick)
    assert (result.tally.read, result.tally.inserted) == (2, 2)
    assert writer.rows() == [(1, "soup"), (2, "stew"), (3, "cake"), (4, "tart")]
    short = writer.job(mended[:3], ("k", "v"), dict(into))
    with pytest.raises(UltravectError) as raised:
        run_leg(short, writer.source, writer.place.spec, Copied(), selection=pick)
    assert raised.value.code == "rejects-gone"
