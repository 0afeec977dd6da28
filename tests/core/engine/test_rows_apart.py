"""Rows that do not fit are set apart, and the others are as they would be without them."""

from __future__ import annotations

import dataclasses

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.contracts.catalogue import LiveCheck, LiveColumn, LiveTable
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.engine.plan.leg_plan import ColumnPlan, InputPlan
from ultravect.core.engine.plan.target.target_checks import TargetCheck, checks_of
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.expressions.bind import Scope, bind, bind_condition
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.expressions.select_list import resolve
from ultravect.core.kinds.mariadb.dialect import MariadbDialect
from ultravect.core.kinds.postgresql.dialect import PostgresqlDialect
from ultravect.core.kinds.sqlite.dialect import SqliteDialect
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.canonical import parse_type

NAMES = ["hut", "nights", "price"]
TYPES = [parse_type(kind) for kind in ("text", "integer", "decimal(6,2)")]
ROW = st.tuples(
    st.sampled_from(["a", "b", "ü", "", '"x;y"', "\x00"]),
    st.sampled_from(["1", "2", "3", "-4", "", "many", "+5", "6.0", "99999999999"]),
    st.sampled_from(["1.50", "12.5", "0", "-1", "1.500", "1.505", "1e2", "n/a", "99999.99"]),
)


def checks(*conditions: str, dialect: Dialect | None = None) -> list[TargetCheck]:
    columns = [LiveColumn(name, "", "", kind, True, False) for name, kind in zip(NAMES, TYPES, strict=True)]
    shown = [LiveCheck(f"c{number}", condition) for number, condition in enumerate(conditions)]
    live = LiveTable(TableName(None, "t"), "table", columns, checks=shown)
    return checks_of(live, NAMES, TYPES, NAMES, dialect or PostgresqlDialect())


def shaper_of(rows: list[tuple[str, ...]], found: list[TargetCheck]) -> tuple[Shaper, Shaper]:
    """Two shapers of the same file: rows of three columns and one computed, filtered by a condition."""
    content = ("hut;nights;price\n" + "".join(";".join(row) + "\n" for row in rows)).encode()
    layout = DelimitedLayout(delimiter=";", header=True, encoding="utf-8")
    reader = open_delimited(file_of("huts.csv", content), layout)
    scope = Scope(NAMES, TYPES)
    (share,) = resolve(["100 / nights as share"], NAMES)
    assert share.value is not None
    columns = [
        ColumnPlan(at, name, name, kind, "", reader.formats)
        for at, (name, kind) in enumerate(zip(NAMES, TYPES, strict=True))
    ]
    computed = ColumnPlan(-1, "share", "share", parse_type("bigint"), "", reader.formats, expression=share.value)
    inputs = [InputPlan(1, 1, "nights", TYPES[1], reader.formats)]
    condition = bind_condition(parse_condition("nights is null or nights <> 3", ""), scope, "")
    item, other = (
        Shaper(
            reader,
            [*columns, computed],
            frozenset({"nul"}),
            inputs,
            condition,
            checks=found,
            bound={"share": bind(share.value, scope, "")},
        )
        for _ in range(2)
    )
    return item, other


def shown(shaped: Shaped) -> object:
    rejects = [dataclasses.astuple(reject) for reject in shaped.rejects]
    return shaped.rows, shaped.filtered, rejects, shaped.index.tolist(), shaped.batch.to_pylist()


@settings(deadline=None, max_examples=200)
@given(st.lists(ROW, min_size=1, max_size=25))
def test_setting_rows_apart_changes_nothing_for_any_row(rows: list[tuple[str, ...]]) -> None:
    quick, careful = shaper_of(rows, checks("(nights >= 0)", "((hut)::text = ANY (ARRAY['a'::text, 'x;y'::text]))"))
    reader = careful._reader
    for block in reader.blocks():
        assert shown(quick.shape(block)) == shown(
            dataclasses.replace(careful._sort_out(block, reader.read(block)), path=block.path)
        )


def test_what_breaks_a_check_is_told_with_its_row_and_value() -> None:
    quick, _ = shaper_of(
        [("a", "1", "1"), ("a", "-4", "2"), ("a", "", "3"), ("a", "2", "4")], checks("(nights >= 0)")
    )
    (block,) = quick._reader.blocks()
    shaped = quick.shape(block)
    (reject,) = shaped.rejects
    assert (reject.row, reject.line, reject.column, reject.value) == (2, 3, "nights", "-4")
    assert reject.reason == "breaks the check c0 of the target: nights >= 0"
    assert shaped.batch["price"].to_pylist() == [1, 3, 4]


@pytest.mark.parametrize(
    ("condition", "dialect", "decided"),
    [
        ("((nights >= 0) AND (price > (0)::numeric))", PostgresqlDialect(), True),
        ("(hut <> ''::text)", PostgresqlDialect(), True),
        ("((hut)::text = ANY ((ARRAY['a'::character varying, 'b'::character varying])::text[]))", PostgresqlDialect(), True),
        ("`nights` >= 0", MariadbDialect(), True),
        ("nights >= 0", SqliteDialect(), True),
        # what collations, functions or other rows have a say in is for the database
        ("(hut > 'a'::text)", PostgresqlDialect(), False),
        ("`hut` <> 'a'", MariadbDialect(), False),
        ("(upper(hut) = hut)", PostgresqlDialect(), False),
        ("(nights / 0 > 1)", PostgresqlDialect(), False),
        ("(other > 0)", PostgresqlDialect(), False),
        ("(nights)", PostgresqlDialect(), False),
        ("now() > '2020-01-01'::date", PostgresqlDialect(), False),
        ("`nights` >= 0 or 'a`b' = 'c'", MariadbDialect(), False),
    ],
)  # fmt: skip
def test_only_what_every_database_decides_alike_is_decided_here(
    condition: str, dialect: Dialect, decided: bool
) -> None:
    assert bool(checks(condition, dialect=dialect)) is decided
