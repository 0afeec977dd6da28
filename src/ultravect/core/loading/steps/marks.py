"""Marks in targets that are databases: a table next to that of receipts, an entry a row."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Mapping, Sequence

from ultravect.core.contracts.mark import MARKS, MarkChange, MarkKey
from ultravect.core.contracts.target import Database, Statements
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.types.canonical import CanonicalType

_MOMENT = "%Y-%m-%d %H:%M:%S"
_ROWS_AT_ONCE = 500
_REMOVED_AT_ONCE = 100


class MarkTable:
    """The statements for marks next to ``table``."""

    def __init__(self, dialect: Dialect, table: TableName) -> None:
        self._dialect = dialect
        self.name = TableName(table.schema, MARKS)
        self._table = dialect.table(self.name)

    def create(self) -> str:
        text = CanonicalType("text")
        columns = [
            # names are long, and keys of some databases are not
            NewColumn("entry", CanonicalType("text", length=64)),
            NewColumn("job", CanonicalType("text", length=64), nullable=False),
            NewColumn("object", text, nullable=False),
            NewColumn("item", text, nullable=False),
            NewColumn("value", text, nullable=False),
            NewColumn("run", CanonicalType("text", length=64), nullable=False),
            NewColumn("written_at", CanonicalType("timestamp", precision=0), nullable=False),
        ]
        return self._dialect.create_table(self.name, NewTable(columns, ("entry",)))[0]

    def find(self, key: MarkKey) -> str:
        """All entries of a mark: ``item`` and ``value``."""
        return f"SELECT item, value FROM {self._table} WHERE {self._of(key)}"

    def forget(self, key: MarkKey) -> str:
        return f"DELETE FROM {self._table} WHERE {self._of(key)}"

    def withdraw(self, run: str) -> str:
        """Removes what a load has written whose table could not be put in its place."""
        return f"DELETE FROM {self._table} WHERE run = {self._dialect.literal(run)}"

    def write(self, statements: Statements, changes: Sequence[MarkChange], run: str) -> None:
        """Changes entries in an open transaction; UltravectError where another run has changed one since it was read, the
        database's own error where it has made one. ``run``: the receipt's name of the attempt.
        """
        literal = self._dialect.literal
        now = literal(dt.datetime.now(dt.UTC).strftime(_MOMENT))
        new = [change for change in changes if change.before is None and change.value is not None]
        for start in range(0, len(new), _ROWS_AT_ONCE):
            rows = ", ".join(
                f"({self._entry(change.key, change.item)}, {literal(change.key.job)}, {literal(change.key.object)}, "
                f"{literal(change.item)}, {literal(change.value or '')}, {literal(run)}, {now})"
                for change in new[start : start + _ROWS_AT_ONCE]
            )
            statements.changed(
                f"INSERT INTO {self._table} (entry, job, object, item, value, run, written_at) VALUES {rows}"
            )
        removed = [change for change in changes if change.value is None]
        for start in range(0, len(removed), _REMOVED_AT_ONCE):
            some = removed[start : start + _REMOVED_AT_ONCE]
            wanted = " OR ".join(
                f"(entry = {self._entry(change.key, change.item)} AND value = {literal(change.before or '')})"
                for change in some
            )
            if statements.changed(f"DELETE FROM {self._table} WHERE {wanted}") != len(some):
                raise mark_moved(some[0].key)
        for change in changes:
            if change.before is None or change.value is None or change.before == change.value:
                continue
            if not statements.changed(
                f"UPDATE {self._table} SET value = {literal(change.value)}, run = {literal(run)}, written_at = {now} "
                f"WHERE entry = {self._entry(change.key, change.item)} AND value = {literal(change.before)}"
            ):
                raise mark_moved(change.key)

    def _of(self, key: MarkKey) -> str:
        literal = self._dialect.literal
        return f"job = {literal(key.job)} AND object = {literal(key.object)}"

    def _entry(self, key: MarkKey, item: str) -> str:
        text = "\0".join([key.job, key.object, item])
        return self._dialect.literal(hashlib.sha256(text.encode()).hexdigest())


def set_mark(database: Database, table: TableName, key: MarkKey, value: str | None) -> None:
    """See ``Target.set_mark``."""
    live = database.table(table)
    if live is None:
        raise no_table(table)
    marks = MarkTable(database.dialect, live.name)
    there = database.table(TableName(live.name.schema, marks.name.name)) is not None
    if not there and value is None:
        return
    with database.transaction(live.name, f"setting the mark of {key.object}") as statements:
        if not there:
            statements.changed(marks.create())
        statements.changed(marks.forget(key))
        if value is not None:
            marks.write(statements, [MarkChange(key, "", value)], "by hand")


def no_table(table: TableName) -> UltravectError:
    return UltravectError(
        "table-missing",
        f"{table} is not there yet: a mark says what was copied into it",
        hint="run the job first; from.newer.since says where a first run begins",
        table=str(table),
    )


def mark_moved(key: MarkKey) -> UltravectError:
    return UltravectError(
        "mark-moved",
        f"another run of job {key.job} has copied {key.object} since this one was planned; nothing was written",
        hint="run it again: it begins where that one has ended",
    )


def entries(rows: Sequence[Sequence[object]]) -> Mapping[str, str]:
    """The values of a mark by their items, from what ``MarkTable.find`` gives."""
    return {str(item): str(value) for item, value in rows}
