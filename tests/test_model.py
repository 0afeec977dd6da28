"""A short run of `./dev model`: random jobs through a service, against a plain model."""

from __future__ import annotations

from devtools.model import AREAS, Step, _Model, cases, main


def test_random_jobs_leave_what_the_model_says() -> None:
    said: list[str] = []
    assert main(7, 8, AREAS, said.append) == 0, "\n".join(map(str, said))


def test_a_seed_gives_the_same_cases() -> None:
    first, again = (list(zip(range(50), cases(3, AREAS), strict=False)) for _ in range(2))
    assert first == again
    assert {case.source for _, case in first} >= {"files", "sqlite"}


def test_the_model_knows_what_was_copied_at_the_mark() -> None:
    case = next(case for case in cases(1, ["tables", "newer"]) if case.newer and case.into["mode"] == "append")
    model = _Model(case, rows={1: (1, "a", 5, None), 2: (2, "b", 5, None)})
    model.run()
    model.rows |= {3: (3, "c", 5, None), 2: (2, "changed", 5, None)}
    model.run()
    assert sorted(row[:3] for row in model.target) == [(1, "a", 5), (2, "b", 5), (2, "changed", 5), (3, "c", 5)]
    assert str(Step("run")) == "run 0 ''"
