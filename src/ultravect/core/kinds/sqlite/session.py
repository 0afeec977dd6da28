"""Sessions of SQLite: what a statement may do, and what is noted of it."""

from __future__ import annotations

import sqlite3
from typing import Any

from ultravect.core.contracts.statements import noted

# what a statement may do that only reads, and the settings that it may look at
_READS = frozenset([sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_RECURSIVE])
_SHOWN = frozenset(
    [
        "table_info", "table_xinfo", "table_list", "index_list", "index_info", "index_xinfo", "foreign_key_list",
        "foreign_key_check", "database_list", "collation_list", "function_list", "compile_options", "encoding",
        "user_version", "schema_version", "application_id", "page_count", "page_size", "integrity_check", "quick_check",
    ]
)  # fmt: skip
_UNSAFE_FUNCTIONS = frozenset(["load_extension", "fts3_tokenizer", "readfile", "writefile", "edit"])
# what statements of a job's own must not do: reach other files, change settings, or end the load's transaction
_LEAVES = frozenset(
    [
        sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH, sqlite3.SQLITE_PRAGMA, sqlite3.SQLITE_TRANSACTION,
        sqlite3.SQLITE_SAVEPOINT,
    ]
)  # fmt: skip


def may_read(action: int, first: str | None, second: str | None, database: str | None, trigger: str | None) -> int:
    """An authorizer: what it denies cannot be compiled, however it is written."""
    allowed = action in _READS
    if action == sqlite3.SQLITE_FUNCTION:
        allowed = (second or "").lower() not in _UNSAFE_FUNCTIONS
    elif action == sqlite3.SQLITE_PRAGMA:
        allowed = (first or "").lower() in _SHOWN
    return sqlite3.SQLITE_OK if allowed else sqlite3.SQLITE_DENY


def may_write_here(action: int, first: str | None, second: str | None, *_: object) -> int:
    refused = action in _LEAVES or (action == sqlite3.SQLITE_FUNCTION and (second or "").lower() in _UNSAFE_FUNCTIONS)
    return sqlite3.SQLITE_DENY if refused else sqlite3.SQLITE_OK


class NotingConnection(sqlite3.Connection):
    """A connection that notes what it runs: see ``contracts/statements.py``."""

    def execute(self, statement: str, parameters: Any = (), /) -> sqlite3.Cursor:
        with noted(statement) as ran:
            cursor = super().execute(statement, parameters)
            ran.rows = cursor.rowcount
        return cursor

    def executemany(self, statement: str, parameters: Any, /) -> sqlite3.Cursor:
        with noted(statement) as ran:
            cursor = super().executemany(statement, parameters)
            ran.rows = cursor.rowcount
        return cursor


def has_table(session: sqlite3.Connection, name: str) -> bool:
    found = session.execute("SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?", (name,)).fetchone()
    return found is not None
