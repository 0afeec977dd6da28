"""Queries that are copied, as SQL Server takes them inside of others."""

from __future__ import annotations

import pytest

from ultravect.core.kinds.registry import dialects
from ultravect.core.kinds.sqlserver.derived import standalone

CASES = [
    (
        "SELECT a FROM (WITH c AS (SELECT 1 AS a) SELECT a FROM c) q WHERE a > 1",
        "WITH c AS (SELECT 1 AS a)\nSELECT a FROM (SELECT a FROM c) q WHERE a > 1",
    ),
    (
        "SELECT a FROM (WITH c (a) AS (SELECT 1), [d e] AS (SELECT 2 b) SELECT a FROM c) q",
        "WITH c (a) AS (SELECT 1), [d e] AS (SELECT 2 b)\nSELECT a FROM (SELECT a FROM c) q",
    ),
    (
        "WITH z AS (SELECT 1 a) SELECT * FROM (WITH c AS (SELECT 1 b) SELECT * FROM c, z) q",
        "WITH c AS (SELECT 1 b), z AS (SELECT 1 a) SELECT * FROM (SELECT * FROM c, z) q",
    ),
    ("SELECT * FROM (SELECT a FROM t ORDER BY a) q", "SELECT * FROM (SELECT a FROM t ) q"),
    (
        "SELECT * FROM (SELECT a FROM (SELECT a FROM t ORDER BY a) x ORDER BY a) q",
        "SELECT * FROM (SELECT a FROM (SELECT a FROM t ) x ) q",
    ),
    (
        "SELECT * FROM (SELECT row_number() OVER (ORDER BY a) n FROM t ORDER BY n) q",
        "SELECT * FROM (SELECT row_number() OVER (ORDER BY a) n FROM t ) q",
    ),
]
UNCHANGED = [
    "SELECT * FROM (SELECT TOP (3) a FROM t ORDER BY a) q",
    "SELECT * FROM (SELECT a FROM t ORDER BY a OFFSET 5 ROWS FETCH NEXT 3 ROWS ONLY) q",
    "SELECT * FROM (SELECT a FROM t WITH (NOLOCK)) q",
    "SELECT '(WITH x AS (SELECT 1) SELECT 2 ORDER BY 1)' a FROM t ORDER BY a",
    "SELECT * FROM (WITH broken SELECT 1) q",
]  # fmt: skip


@pytest.mark.parametrize(("sql", "made"), [*CASES, *((sql, sql) for sql in UNCHANGED)])
def test_inner_queries_stand_alone(sql: str, made: str) -> None:
    assert standalone(sql, dialects()["sqlserver"].lexical) == made
