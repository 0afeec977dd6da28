"""What is noted of statements: no value of theirs, whatever it is."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.contracts.statements import StatementLog, noted, noting, shown

# texts as they stand in literals of SQL: a quote is written twice
_VALUES = st.text(st.characters(blacklist_characters="'\\", blacklist_categories=("Cs",)), min_size=4, max_size=100)


@given(_VALUES, _VALUES)
def test_values_are_left_out(first: str, second: str) -> None:
    text = shown(f"SELECT  a\n FROM t WHERE b = 'x{first}''' AND c = E'y{second}'")
    assert text == "SELECT a FROM t WHERE b = '…' AND c = E'…'"


@pytest.mark.parametrize(
    ("statement", "wanted"),
    [
        ("""SELECT "it's", 'sec''ret' FROM t""", """SELECT "it's", '…' FROM t"""),
        ("SELECT `it's` FROM t WHERE a = 'secret'", "SELECT `it's` FROM t WHERE a = '…'"),
        ("SELECT [a b], ARRAY['secret', 'other'] FROM [t]", "SELECT [a b], ARRAY['…', '…'] FROM [t]"),
        ("DO $body$ it's a secret $body$", "DO '…'"),
        ("SELECT $$secret", "SELECT '…'"),
        # a backslash ends a text in one database, and does not in another
        (r"SELECT a FROM t WHERE b = 'C:\' AND c = 'secret'", "SELECT a FROM t WHERE b = …"),
        (r"SELECT a FROM t WHERE b = 'it\'s secret' AND c = 'x'", "SELECT a FROM t WHERE b = …"),
        ("ACCESS_KEY_ID 'AK1' SECRET_ACCESS_KEY 'secret'", "ACCESS_KEY_ID '…' SECRET_ACCESS_KEY '…'"),
    ],
)
def test_what_quotes_mean_elsewhere_shows_no_value(statement: str, wanted: str) -> None:
    assert shown(statement) == wanted


@given(st.text())
def test_whatever_it_is_it_is_one_short_line(statement: str) -> None:
    text = shown(statement)
    assert len(text) <= 300
    assert "\n" not in text


def test_a_value_without_an_end_is_left_out() -> None:
    assert shown("SELECT 'and the rest is sec'ret") == "SELECT '…'ret"
    assert shown("SELECT 'never ends") == "SELECT '…'"


def test_statements_of_one_text_are_added_up_and_the_longest_kept() -> None:
    log = StatementLog()
    for number in range(600):
        log.add(f"SELECT {number}", 0.001, -1)
    for number in range(3):
        log.add(f"INSERT INTO t VALUES ('{number}')", 2.0, 10)
    found = log.longest()
    assert len(found) == 20
    # of more different ones than are kept apart, the rest is one
    assert found[0] == {"text": "other statements", "count": 103, "seconds": 6.1, "rows": 30}
    assert found[1]["rows"] == 0


def test_one_that_fails_counts_and_afterwards_nothing_does() -> None:
    with noting() as log, suppress(ZeroDivisionError), noted(b"SELECT 1 / 0") as ran:
        ran.rows = 1 // 0
    with noted("SELECT 2"):
        pass
    assert [(item["text"], item["count"]) for item in log.longest()] == [("SELECT 1 / 0", 1)]
