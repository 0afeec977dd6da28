"""The select list: which columns it takes, and what it says when it cannot be read."""

from __future__ import annotations

import pytest

from ultravect.core.errors import UltravectError
from ultravect.core.expressions.select_list import resolve

NAMES = ["id", "hut_code", "Guest Name", "total"]


@pytest.mark.parametrize(
    ("items", "expected"),
    [
        (["*"], [("id", None), ("hut_code", None), ("Guest Name", None), ("total", None)]),
        (["total", "id"], [("total", None), ("id", None)]),
        (["hut_code as hut text(4)"], [("hut", "text(4)")]),
        (["HUT_CODE"], [("HUT_CODE", None)]),
        (['"Guest Name" as guest'], [("guest", None)]),
        (
            ["total decimal(10,2)", "* except (id)"],
            [("total", "decimal(10,2)"), ("hut_code", None), ("Guest Name", None)],
        ),
        (
            ["*", "total as total double"],
            [("id", None), ("hut_code", None), ("Guest Name", None), ("total", "double")],
        ),
        (["id bigint", "id as copy text"], [("id", "bigint"), ("copy", "text")]),
        (['id as "a ""b"""'], [('a "b"', None)]),
        (
            ["*", "upper(hut_code) as hut_code"],
            [("id", None), ("Guest Name", None), ("total", None), ("hut_code", None)],
        ),
    ],
)
def test_takes(items: list[str], expected: list[tuple[str, str | None]]) -> None:
    assert [(item.name, str(item.type) if item.type else None) for item in resolve(items, NAMES)] == expected


@pytest.mark.parametrize(
    ("items", "code", "hint", "place"),
    [
        (["hut_kode"], "column-unknown", "did you mean 'hut_code'?", "columns.0"),
        (["*", "zzz"], "column-unknown", "the source has id, hut_code", "columns.1"),
        (["* except (nothing)"], "column-unknown", "", "columns.0"),
        (["lower(hut_code)"], "column-unnamed", "write `as`", "columns.0"),
        (["id as"], "expression-syntax", "write name", "columns.0"),
        (["id decimal(50,2)"], "expression-syntax", "types in the reference", "columns.0"),
        (["id integr"], "expression-syntax", "write name", "columns.0"),
        (["id; drop table x"], "expression-syntax", "write name", "columns.0"),
        (["id as x", "total as x"], "column-twice", "another name", "columns.1"),
        (['* except (id, hut_code, "Guest Name", total)'], "no-columns", "add one", "columns"),
    ],
)
def test_refuses(items: list[str], code: str, hint: str, place: str) -> None:
    with pytest.raises(UltravectError) as raised:
        resolve(items, NAMES)
    assert (raised.value.code, raised.value.where["place"]) == (code, place)
    assert hint in raised.value.hint
