"""Expressions: what they give, what they refuse, and that a source filters as we would."""

from __future__ import annotations

import datetime as dt
from contextlib import suppress
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Scope, bind, bind_condition
from ultravect.core.expressions.evaluate import Rows, evaluate
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.types.canonical import parse_type

D = Decimal
NOW = dt.datetime(2026, 7, 1, 12, 30, tzinfo=dt.UTC)
# each row of the table is a column here: name, type, values
TABLE: list[tuple[str, str, list[Any]]] = [
    ("n", "integer", [1, -7, None]),
    ("big", "bigint", [2**63 - 1, 3, None]),
    ("price", "decimal(10,2)", [D("12.50"), D("-0.05"), None]),
    ("ratio", "double", [0.5, -1.5, None]),
    ("name", "text", ["Åse  ", "", None]),
    ("Odd Name", "text", ["007", "abc", None]),
    ("day", "date", [dt.date(2026, 3, 31), dt.date(2024, 2, 29), None]),
    ("moment", "timestamp", [dt.datetime(2026, 3, 29, 2, 30), dt.datetime(2026, 7, 1, 23, 59, 59), None]),
    ("instant", "timestamptz", [dt.datetime(2026, 1, 1, 0, 30, tzinfo=dt.UTC), NOW, None]),
    ("open", "boolean", [True, False, None]),
    ("doc", "json", ['{"wind": {"speed": 9.10, "from": [1, 2]}}', "{}", None]),
]
KINDS = [parse_type(kind) for _, kind, _ in TABLE]
SCOPE = Scope(
    [name for name, _, _ in TABLE], KINDS, {"season": 2026, "word": "x'; --"}, lambda name: f"key {name}", NOW
)
ROWS = Rows({at: pa.array(values, kind.arrow) for at, ((_, _, values), kind) in enumerate(zip(TABLE, KINDS, strict=True))}, 3,
            "slips/a.csv", pa.array([5, 6, 7], pa.int64()), "run-1")  # fmt: skip
X = object()  # a row that cannot be computed


def value_of(text: str) -> list[Any]:
    computed = evaluate(bind(parse_condition(text, "columns.0"), SCOPE, "columns.0"), ROWS)
    values = computed.array.to_pylist()
    for _, mask in computed.failures:
        values = [X if failed else value for value, failed in zip(values, mask, strict=True)]
    return values


CASES: list[tuple[str, list[Any]]] = [
    ("n + 1", [2, -6, None]),
    ("n * price", [D("12.50"), D("0.35"), None]),
    ("n / 2", [0, -3, None]),
    ("n % 2", [1, -1, None]),
    ("price / 3", [D("4.166667"), D("-0.016667"), None]),
    ("1 / (n - 1)", [X, 0, None]),
    ("price / (price - 12.5)", [X, D("0.003984"), None]),
    ("big + 1", [X, 4, None]),
    ("big * 2", [X, 6, None]),
    ("-n", [-1, 7, None]),
    ("ratio * 2 + n", [2.0, -10.0, None]),
    ("day + 1", [dt.date(2026, 4, 1), dt.date(2024, 3, 1), None]),
    ("day - date '2026-03-01'", [30, -731, None]),
    ("day + 10000000", [X, X, None]),
    ("name || '!' || n", ["Åse  !1", "!-7", None]),
    ("'a''b'", ["a'b"] * 3),
    (":word || ''", ["x'; --"] * 3),
    ("n = 1 or open", [True, False, None]),
    ("open and n is null", [False, False, None]),
    ("null or open", [True, None, None]),
    ("not open", [False, True, None]),
    ("n in (1, null)", [True, None, None]),
    ("n not in (1, 2)", [False, True, None]),
    ("n between -7 and 0", [False, True, None]),
    ("name like 'Å%'", [True, False, None]),
    ("'a.c' like 'a_c' and 'abc' not like 'a.c'", [True] * 3),
    ("\"Odd Name\" = '007'", [True, False, None]),
    ("day >= '2026-01-01'", [True, False, None]),
    ("moment > timestamp '2026-04-01 00:00:00'", [False, True, None]),
    ("case when n > 0 then 'up' when n < 0 then 'down' end", ["up", "down", None]),
    ("case n when 1 then 1.5 else 2 end", [D("1.5"), D("2.0"), D("2.0")]),
    ("case when n = 1 then 0 else 7 / (n - 1) end", [0, 0, None]),
    ("cast(\"Odd Name\" as integer)", [7, X, None]),
    ("cast(price as integer)", [X, X, None]),
    ("cast(n as text)", ["1", "-7", None]),
    ("coalesce(cast(\"Odd Name\" as integer), 0)", [7, X, 0]),
    ("coalesce(n, cast('9' as integer))", [1, -7, 9]),
    ("nullif(name, '')", ["Åse  ", None, None]),
    ("upper(trim(name))", ["ÅSE", "", None]),
    ("length(name)", [5, 0, None]),
    ("substring(name, 2, 2)", ["se", "", None]),
    ("substring(name from 1 for n + 8)", ["Åse  ", "", None]),
    ("substring('abcdef', abs(n))", ["abcdef", "", None]),
    ("replace(name, ' ', '_')", ["Åse__", "", None]),
    ("round(price)", [D("13.00"), D("0.00"), None]),
    ("round(ratio)", [1.0, -2.0, None]),
    ("floor(ratio)", [0.0, -2.0, None]),
    ("ceiling(price)", [D("13.00"), D("0.00"), None]),
    ("abs(price)", [D("12.50"), D("0.05"), None]),
    ("extract(month from day)", [3, 2, None]),
    ("extract(hour from instant)", [0, 12, None]),
    ("date_trunc('month', day)", [dt.date(2026, 3, 1), dt.date(2024, 2, 1), None]),
    ("date_trunc('hour', moment)", [dt.datetime(2026, 3, 29, 2), dt.datetime(2026, 7, 1, 23), None]),
    ("moment at time zone 'Europe/Zurich'", [X, dt.datetime(2026, 7, 1, 21, 59, 59, tzinfo=dt.UTC), None]),
    ("instant at time zone 'Europe/Zurich'", [dt.datetime(2026, 1, 1, 1, 30), dt.datetime(2026, 7, 1, 14, 30), None]),
    ("parse_date('31.12.2026', 'DD.MM.YYYY')", [dt.date(2026, 12, 31)] * 3),
    ("parse_date(name, 'DD.MM.YYYY')", [X, X, None]),
    ("current_date()", [dt.date(2026, 7, 1)] * 3),
    ("sha256('abc')", ["ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"] * 3),
    ("md5(name) = md5('')", [False, True, None]),
    ("hmac(name, 'A') = hmac(name, 'B')", [False, False, None]),
    ("keep_last(\"Odd Name\", 2)", ["*07", "*bc", None]),
    ("json_value(doc, '$.wind.speed')", ["9.10", None, None]),
    ("json_value(doc, '/wind/from/1')", ["2", None, None]),
    ("json_value(name, '$.a')", [X, X, None]),
    ("file_name() || ':' || file_row()", ["slips/a.csv:5", "slips/a.csv:6", "slips/a.csv:7"]),
    ("run_id()", ["run-1"] * 3),
    (":season - 1", [2025] * 3),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected"), CASES)
def test_gives(text: str, expected: list[Any]) -> None:
    found = value_of(text)
    assert [X if item is X else item for item in found] == expected
    assert [type(item) for item in found] == [type(item) for item in expected]


@pytest.mark.parametrize(
    ("text", "code", "part"),
    [
        ("nam = 1", "column-unknown", "did you mean 'name'?"),
        ("lowr(name)", "function-unknown", "did you mean 'lower'?"),
        ("lower(name, 1)", "function-arguments", "lower takes 1 argument, not 2"),
        ("n + name", "expression-type", "+ takes numbers, not integer and text (character 1)"),
        ("name > n", "expression-type", "text and integer cannot be compared"),
        ("n", "expression-type", "a condition is true or false, and this one gives integer"),
        ("day = 'soon'", "expression-type", "'soon' is no date"),
        (":sesson = 1", "parameter-unknown", "did you mean 'season'?"),
        ("replace(name, name, 'x') = ''", "function-arguments", "argument 2 of replace has to be a literal"),
        ("case when open then 1 else 'a' end = 1", "expression-type", "the results of case are bigint and text"),
        ("instant at time zone 'Mars' = moment", "expression-type", "no time zone 'Mars'"),
        ("extract(hour from day) = 1", "expression-type", "a date has no hour"),
        ("cast(n as integr) = 1", "expression-type", "did you mean 'integer'?"),
        ("json_value(doc, 'wind') = ''", "expression-type", "neither a path"),
        ("n = = 1", "expression-syntax", "cannot be read at character 5, at '='"),
        ("(n = 1", "expression-syntax", "at its end; expected there: )"),
        ("n = 1; drop table x", "expression-syntax", "at character 6"),
        ("(" * 300 + "n" + ")" * 300, "expression-syntax", "nested too deeply"),
    ],
)  # fmt: skip
def test_refuses(text: str, code: str, part: str) -> None:
    with pytest.raises(UltravectError) as raised:
        bind_condition(parse_condition(text, "from.where"), SCOPE, "from.where")
    assert raised.value.code == code
    assert part in f"{raised.value.detail} {raised.value.hint}"
    assert raised.value.where["place"] == "from.where"


@given(st.text(max_size=30))
def test_any_text_is_read_or_refused(text: str) -> None:
    with suppress(UltravectError):
        assert bind_condition(parse_condition(text, "from.where"), SCOPE, "from.where").type == KINDS[9]


@given(st.text(max_size=20))
def test_a_quoted_text_is_that_text(text: str) -> None:
    quoted = "'" + text.replace("'", "''") + "'"
    assert value_of(f"{quoted} || ''") == [text] * 3
