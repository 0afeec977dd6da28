"""Queries that stand inside of another one, as SQL Server takes them there: without WITH, and without an ORDER BY that chooses no rows."""

from __future__ import annotations

from collections.abc import Sequence

from ultravect.core.dialects.statements import Lexical, Token, statements

_CHOOSES = frozenset(["TOP", "OFFSET", "FOR"])


def standalone(sql: str, lexical: Lexical) -> str:
    """The statement, with the WITH of inner queries before all of it, and their useless ORDER BY left out."""
    while (moved := _moved(sql, lexical)) is not None:
        sql = moved
    while (left := _without_order(sql, lexical)) is not None:
        sql = left
    return sql


def _tokens(sql: str, lexical: Lexical) -> Sequence[Token]:
    found = statements(sql, lexical)
    return found[0].tokens if len(found) == 1 else ()


def _closing(tokens: Sequence[Token], at: int) -> int:
    """Where the parenthesis at ``at`` is closed; after the last token where it is not."""
    depth = 0
    for place in range(at, len(tokens)):
        if tokens[place].kind == "mark":
            depth += (tokens[place].text == "(") - (tokens[place].text == ")")
            if depth == 0:
                return place
    return len(tokens)


def _is(tokens: Sequence[Token], at: int, text: str) -> bool:
    return at < len(tokens) and tokens[at].kind in ("word", "mark") and tokens[at].text == text


def _after_definitions(tokens: Sequence[Token], at: int) -> int | None:
    """Where the query begins that the WITH at ``at`` belongs to; None where it is no list of named queries."""
    place = at + 1
    while place < len(tokens):
        place += 1  # the name
        if _is(tokens, place, "("):
            place = _closing(tokens, place) + 1
        if not (_is(tokens, place, "AS") and _is(tokens, place + 1, "(")):
            return None
        place = _closing(tokens, place + 1) + 1
        if not _is(tokens, place, ","):
            return place if place < len(tokens) else None
        place += 1
    return None


def _moved(sql: str, lexical: Lexical) -> str | None:
    """The statement with one WITH moved to its beginning; None where there is none to move."""
    tokens = _tokens(sql, lexical)
    for at in range(1, len(tokens)):
        if not (_is(tokens, at, "WITH") and _is(tokens, at - 1, "(")):
            continue
        query = _after_definitions(tokens, at)
        if query is None:
            continue
        definitions = sql[tokens[at + 1].start : tokens[query - 1].end]
        begins, own = tokens[0].start, _is(tokens, 0, "WITH")
        before = sql[tokens[1].start if own else begins : tokens[at].start]
        joint = ", " if own else "\n"
        return f"{sql[:begins]}WITH {definitions}{joint}{before}{sql[tokens[query].start :]}"
    return None


def _without_order(sql: str, lexical: Lexical) -> str | None:
    """The statement without one ORDER BY of an inner query; None where there is none to leave out."""
    tokens = _tokens(sql, lexical)
    for at in range(1, len(tokens)):
        if not (_is(tokens, at, "SELECT") and _is(tokens, at - 1, "(")):
            continue
        end, place, order = _closing(tokens, at - 1), at, None
        while place < end:
            if _is(tokens, place, "("):
                place = _closing(tokens, place) + 1
                continue
            token = tokens[place]
            if token.kind == "word" and token.text in _CHOOSES:
                order = None
                break
            if token.kind == "word" and token.text == "ORDER" and _is(tokens, place + 1, "BY"):
                order = place
            place += 1
        if order is not None and end < len(tokens):
            return sql[: tokens[order].start] + sql[tokens[end].start :]
    return None
