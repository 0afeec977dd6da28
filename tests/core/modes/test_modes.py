"""Any loads in any modes leave in each database what a plain model of it says, and every row is accounted for."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path

import pytest
from devtools.pairs import KINDS, Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError

Row = tuple[int | None, str | None]


@dataclass
class Step:
    """One load; ``keyed`` only has a say where the mode does not need keys."""

    mode: str
    keyed: bool
    repeats: str
    rows: list[Row]

    @property
    def uses_keys(self) -> bool:
        return self.keyed or self.mode == "upsert"


class Model:
    """What a table should hold after loads, and what each should say."""

    def __init__(self) -> None:
        self.rows: list[Row] = []
        self.summary: list[tuple[str, Row | None, Row | None]] = []
        self.comparison: dict[str, int] | None = None

    def load(self, step: Step) -> dict[str, int] | None:
        """The tally, or None when the load has to be refused."""
        tally = dict.fromkeys(("read", "filtered", "rejected", "repeated", "inserted", "updated", "unchanged"), 0)
        tally["read"] = len(step.rows)
        self.summary, self.comparison = [], None
        rows = step.rows
        if step.uses_keys:
            good = [row for row in rows if row[0] is not None]
            tally["rejected"] = len(rows) - len(good)
            chosen: dict[int | None, Row] = {}
            for row in good:
                if step.repeats != "first" or row[0] not in chosen:
                    chosen[row[0]] = row
            if step.repeats == "fail" and len(chosen) < len(good):
                return None
            tally["repeated"] = len(good) - len(chosen)
            rows = list(chosen.values())
            last = {row[0]: at for at, row in enumerate(good)}
            first = {row[0]: at for at, row in reversed(list(enumerate(good)))}
            winners = first if step.repeats == "first" else last
            self.summary += [
                ("repeated", row, chosen[row[0]]) for at, row in enumerate(good) if winners[row[0]] != at
            ]
        if step.mode == "upsert":
            held: dict[int | None, list[Row]] = {}
            for row in self.rows:
                held.setdefault(row[0], []).append(row)
            if any(len(held.get(row[0], [])) > 1 for row in rows):
                return None
            for row in rows:
                known = held.get(row[0])
                kind = "inserted" if not known else "unchanged" if known[0] == row else "updated"
                tally[kind] += 1
                if kind == "updated":
                    self.summary.append(("updated", known[0] if known else None, row))
                if known:
                    self.rows.remove(known[0])
                self.rows.append(row)
            return tally
        tally["inserted"] = len(rows)
        if step.mode == "overwrite" and step.uses_keys:
            self._compare(rows)
        self.rows = rows if step.mode == "overwrite" else self.rows + rows
        return tally

    def _compare(self, rows: list[Row]) -> None:
        keys, old = {row[0] for row in rows}, {row[0] for row in self.rows}
        pairs = [(held, row) for row in rows for held in self.rows if held[0] == row[0]]
        changed = [("updated", held, row) for held, row in pairs if held != row]
        added = [("added", None, row) for row in rows if row[0] not in old]
        gone = [("gone", row, None) for row in self.rows if row[0] is None or row[0] not in keys]
        self.summary += [*changed, *added, *gone]
        self.comparison = {
            "added": len(added), "gone": len(gone), "changed": len(changed), "equal": len(pairs) - len(changed)
        }  # fmt: skip


def _texts(row: Row | None) -> dict[str, str | None] | None:
    return None if row is None else {"k": None if row[0] is None else str(row[0]), "v": row[1]}


_KEYS = st.one_of(st.integers(1, 6), st.none())
_WORDS = st.sampled_from(["soup", "stew", "Soup", "", "soup "]).map(lambda text: text or None)
_STEPS = st.builds(
    Step,
    st.sampled_from(["append", "overwrite", "upsert", "upsert"]),
    st.booleans(),
    st.sampled_from(["last", "first", "last", "fail"]),
    st.lists(st.tuples(_KEYS, _WORDS), max_size=7),
)


@pytest.mark.parametrize("kind", KINDS)
@given(steps=st.lists(_STEPS, min_size=1, max_size=5), indexed=st.booleans())
@settings(max_examples=5, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_loads_leave_what_the_model_says(
    places: dict[str, Place], tmp_path: Path, kind: str, steps: list[Step], indexed: bool
) -> None:
    place, model = places[kind], Model()
    place.drop("modes")
    place.sql("CREATE TABLE modes (k integer, v varchar(20), since varchar(3) DEFAULT 'new')")
    if indexed:
        place.sql("CREATE INDEX modes_k ON modes (k)")
    writer = Writer(place, tmp_path)
    for step in steps:
        before = list(model.rows)
        wanted = model.load(step)
        into = {"mode": step.mode, "repeats": step.repeats, "rejects": 100, **({"keys": ["k"]} if step.uses_keys else {})}  # fmt: skip
        if wanted is None:
            model.rows = before
            with pytest.raises(UltravectError) as raised:
                writer.load(step.rows, **into)
            assert raised.value.code in ("key-repeated", "key-not-unique")
        else:
            result = writer.load(step.rows, **into)
            assert asdict(result.tally) == wanted
            assert result.rows_before == len(before)
            assert result.rows_after == len(model.rows)
            shown = [(item.kind, item.before, item.after) for item in writer.heard.changed]
            wanted_changes = [(kind, _texts(old), _texts(new)) for kind, old, new in model.summary]
            assert sorted(shown, key=str) == sorted(wanted_changes, key=str)
            assert (result.comparison and result.comparison.as_dict()) == model.comparison
        assert sorted(writer.rows(), key=str) == sorted(model.rows, key=str)
    assert writer.left_behind() == []


@pytest.mark.parametrize("mode", ["append", "overwrite", "upsert"])
@pytest.mark.parametrize("kind", KINDS)
def test_a_load_that_was_committed_is_not_repeated(
    places: dict[str, Place], tmp_path: Path, kind: str, mode: str
) -> None:
    place = places[kind]
    place.drop("modes")
    writer = Writer(place, tmp_path)
    writer.load([(1, "soup"), (2, "stew")], keys=["k"])
    into = {"mode": mode, "keys": ["k"], "run": f"once-{mode}"}
    first = writer.load([(3, "cake"), (3, "tart")], **into)
    again = writer.load([(3, "cake"), (3, "tart")], **into, taken_over=True)
    assert again.tally == first.tally
    assert (again.rows_before, again.rows_after) == (first.rows_before, first.rows_after)
    held = [(3, "tart")] if mode == "overwrite" else [(1, "soup"), (2, "stew"), (3, "tart")]
    assert writer.rows() == held
    # without asking first, the receipt itself keeps the second load out
    with pytest.raises(UltravectError):
        writer.load([(9, "late")], **into)
    assert writer.rows() == held
    assert writer.left_behind() == []
