"""Change tracking of SQL Server as a change log: see ``ChangeLog``.

The server notes which keys have changed, with a version for each commit, and no values: those are read with the keys, in a snapshot. So a window is
a state of the source, and what a row was in between two windows is not known. A position is a version.

https://learn.microsoft.com/en-us/sql/relational-databases/track-changes/about-change-tracking-sql-server
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable, Remark
from ultravect.core.contracts.change_log import (
    Changes,
    End,
    Kept,
    Kind,
    LogEvent,
    LoggedTable,
    LogMark,
    Redefined,
    Snapshot,
    WindowSize,
)
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver.catalogue import USUAL_SCHEMA
from ultravect.core.kinds.sqlserver.read import read_rows
from ultravect.core.kinds.sqlserver.session import Session
from ultravect.core.loading.following import PollingFollower, read_ahead, redefinition
from ultravect.core.types.canonical import CanonicalType

_TEXT, _NUMBER = CanonicalType("text"), CanonicalType("bigint")
_DAY_MINUTES = 1440
_DATABASE = """
SELECT t.retention_period, t.retention_period_units_desc, d.snapshot_isolation_state FROM sys.databases d
LEFT JOIN sys.change_tracking_databases t ON t.database_id = d.database_id WHERE d.name = DB_NAME()
"""
_MINUTES = {"MINUTES": 1, "HOURS": 60, "DAYS": _DAY_MINUTES}
_TABLE = """
SELECT t.object_id, HAS_PERMS_BY_NAME({name}, 'OBJECT', 'VIEW CHANGE TRACKING') FROM sys.objects o
LEFT JOIN sys.change_tracking_tables t ON t.object_id = o.object_id WHERE o.object_id = OBJECT_ID({name})
"""
_BEGIN = "SET TRANSACTION ISOLATION LEVEL SNAPSHOT; BEGIN TRANSACTION"
_LETTERS = pa.array(["I", "U", "D"])
_KINDS = np.array([Kind.INSERT, Kind.UPDATE, Kind.DELETE], np.int8)

Opens = Callable[[str], AbstractContextManager[Session]]


class SqlserverLog:
    """See ``ChangeLog``. ``opens`` opens a session: what it does completes "while …"; ``columns`` gives those of a table as it is now."""

    def __init__(
        self,
        connection: str,
        dialect: Dialect,
        name: str,
        opens: Opens,
        columns: Callable[[TableName], Sequence[LiveColumn]],
    ) -> None:
        self._connection, self._dialect, self.name, self._opens, self.columns = (
            connection,
            dialect,
            name,
            opens,
            columns,
        )

    def _quoted(self, table: TableName) -> str:
        return self._dialect.table(TableName(table.schema or USUAL_SCHEMA, table.name))

    # what is missing

    def lacks(self, tables: Sequence[LiveTable]) -> Sequence[Remark]:
        found = []
        with self._opens("looking whether changes are tracked") as opened:
            ((period, units, snapshots),) = opened.rows(_DATABASE)
            if period is None:
                fix = "ALTER DATABASE CURRENT SET CHANGE_TRACKING = ON (CHANGE_RETENTION = 7 DAYS, AUTO_CLEANUP = ON)"
                found.append(Remark("log-level", "the database does not track what changes in it", fix))
            elif int(period) * _MINUTES.get(str(units).upper(), _DAY_MINUTES) < _DAY_MINUTES:
                what = f"the database keeps what changed for {period} {str(units).lower()} only: a stream that stops for longer has to begin anew"
                found.append(
                    Remark(
                        "log-retention",
                        what,
                        "ALTER DATABASE CURRENT SET CHANGE_TRACKING (CHANGE_RETENTION = 7 DAYS)",
                    )
                )
            if snapshots != 1:
                what = "the database has no snapshots, by which changes and rows are those of one moment"
                found.append(Remark("log-level", what, "ALTER DATABASE CURRENT SET ALLOW_SNAPSHOT_ISOLATION ON"))
            for table in tables:
                found += self._lacks_of_table(opened, table)
        return found

    def _lacks_of_table(self, opened: Session, table: LiveTable) -> list[Remark]:
        shown = self._quoted(table.name)
        if table.kind != "table":
            fix = "name the tables that it is made of; or from.newer: changed_rows"
            return [Remark("log-of-view", f"{table.name} is no table: its changes are not tracked", fix)]
        if not any(column.key for column in table.columns):
            what = f"{table.name} has no primary key, by which its changes could be tracked"
            return [
                Remark("log-identity", what, f"ALTER TABLE {shown} ADD PRIMARY KEY (…); or from.newer: changed_rows")
            ]
        ((tracked, may),) = opened.rows(_TABLE.format(name=self._dialect.literal(shown)))
        if tracked is None:
            what = f"changes of {table.name} are not tracked"
            return [Remark("log-of-unlogged", what, f"ALTER TABLE {shown} ENABLE CHANGE_TRACKING")]
        if not may:
            fix = f"GRANT VIEW CHANGE TRACKING ON OBJECT::{shown} TO the connection's user"
            return [Remark("log-privilege", f"the user may not see which rows of {table.name} have changed", fix)]
        return []

    def identity(self, table: LiveTable) -> Sequence[str] | None:
        return [column.name for column in table.columns if column.key] or None

    def sent(self, table: LiveTable) -> Sequence[str]:
        return [column.name for column in table.columns]

    # what is kept

    def identifier(self) -> str:
        with self._opens("asking which server it is") as opened:
            ((server, database),) = opened.rows("SELECT @@SERVERNAME, DB_NAME()")
        return f"{server}/{database}"

    def prepare(self, tables: Sequence[TableName]) -> None:
        pass

    def kept(self) -> Kept:
        with self._opens("asking for the version of the database") as opened:
            return Kept(there=False, position=_version(opened))

    def drop(self) -> bool:
        return False

    def confirm(self, position: int) -> None:
        """The server keeps what it has noted for as long as it is set to."""

    def text(self, position: int) -> str:
        return str(position)

    @contextmanager
    def snapshot(self, table: TableName, log: str, position: int) -> Iterator[Snapshot]:
        name = f"{self.name} {table}"
        with self._opens(f"taking a snapshot of {table}") as opened:
            opened.execute(_BEGIN)
            version = _version(opened)
            held_snapshots[name] = opened
            try:
                yield Snapshot(name, LogMark(log, version), version, lambda: True)
            finally:
                del held_snapshots[name]

    # following

    @contextmanager
    def follow(self, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize) -> Iterator[Iterator[LogEvent]]:
        with read_ahead(_Follower(self, tables, start, size)) as events:
            yield events

    @contextmanager
    def one_moment(self) -> Iterator[tuple[Session, int]]:
        """A session that sees one moment, and its version."""
        with self._opens("reading what has changed") as opened:
            opened.execute(_BEGIN)
            yield opened, _version(opened)

    def require_kept(self, opened: Session, table: TableName, since: int) -> None:
        name = self._dialect.literal(self._quoted(table))
        ((least,),) = opened.rows(f"SELECT CHANGE_TRACKING_MIN_VALID_VERSION(OBJECT_ID({name}))")
        why = ""
        if least is None:
            why = f"changes of {table} are not tracked any more"
        elif int(least) > since:
            why = f"{table} was emptied at once (TRUNCATE), or what changed in it was not kept: known since version {least}"
        if why:
            raise UltravectError(
                "log-lost",
                f"connection {self._connection}: {why}; what was committed since version {since} is not known",
                hint=f"have it copied anew: ultravect mark JOB --reset --object {table}, then ultravect stream resume JOB",
                connection=self._connection,
            )

    def has_changes(self, opened: Session, table: TableName, since: int) -> bool:
        return bool(
            opened.rows(f"SELECT TOP (1) 1 FROM CHANGETABLE(CHANGES {self._quoted(table)}, {int(since)}) AS c")
        )

    def changes(self, opened: Session, table: LoggedTable, since: int) -> Iterator[pa.Table]:
        """Operation, version and the columns of each row that has changed, in the order of their commits."""
        quote, quoted = self._dialect.quote, self._quoted(table.name)
        keys = [column.name for column in self.columns(table.name) if column.key]
        among = ", ".join(
            f"{'c' if column.name in keys else 't'}.{quote(column.name)} AS {quote(column.name)}"
            for column in table.columns
        )
        same = " AND ".join(f"t.{quote(key)} = c.{quote(key)}" for key in keys)
        selected = ", ".join(
            self._dialect.readable(quote(column.name), column.native, column.type) for column in table.columns
        )
        statement = (
            f"SELECT CAST(q.change_operation AS nvarchar(1)), CAST(q.change_version AS bigint), {selected} FROM ("
            f"SELECT c.SYS_CHANGE_OPERATION AS change_operation, c.SYS_CHANGE_VERSION AS change_version, {among} "
            f"FROM CHANGETABLE(CHANGES {quoted}, {int(since)}) AS c LEFT JOIN {quoted} AS t ON {same}) AS q ORDER BY q.change_version"
        )
        yield from read_rows(opened, statement, [_TEXT, _NUMBER, *(column.type or _TEXT for column in table.columns)])


held_snapshots: dict[str, Session] = {}
"""Sessions in which a snapshot was begun, by its name: only they can read it."""


def _version(opened: Session) -> int:
    ((version,),) = opened.rows("SELECT CHANGE_TRACKING_CURRENT_VERSION()")
    return int(version or 0)


class _Follower(PollingFollower):
    def __init__(self, log: SqlserverLog, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize) -> None:
        super().__init__(size.seconds)
        self._log, self._tables = log, tables
        self._since = {table.name: table.mark.position for table in tables}
        self._given = start.position

    def window(self) -> Iterator[LogEvent]:
        log, order = self._log, 0
        moment = int(time.time() * 1_000_000)
        with log.one_moment() as (opened, version):
            if version < self._given:
                raise UltravectError(
                    "log-lost",
                    f"the database is at version {version}, before {self._given}, which was followed: it was restored, or is another one",
                    hint="have all tables copied anew: ultravect mark JOB --reset, then ultravect stream resume JOB",
                )
            for table in self._tables:
                since = self._since[table.name]
                if version == since:
                    continue
                log.require_kept(opened, table.name, since)
                if not log.has_changes(opened, table.name, since):
                    continue
                redefined = self._compared(table)
                if redefined is not None and redefined.what not in table.accepted:
                    yield redefined
                for values in log.changes(opened, table, since):
                    yield _changes(table.name, values, order, moment)
                    order += values.num_rows
        self._since = dict.fromkeys(self._since, version)
        self._given = version
        yield End(version, moment if order else 0)

    def _compared(self, table: LoggedTable) -> Redefined | None:
        there: Mapping[str, str] = {column.name: column.native for column in self._log.columns(table.name)}
        held = {column.name: column.native for column in table.columns}
        new = {name: native for name, native in there.items() if name not in held and name not in table.left_out}
        retyped = {name: (native, there[name]) for name, native in held.items() if there.get(name, native) != native}
        return redefinition(table.name, new, [name for name in held if name not in there], retyped)


def _changes(table: TableName, values: pa.Table, order: int, moment: int) -> Changes:
    count = values.num_rows
    letters = pc.index_in(values.column(0).cast(pa.string()), _LETTERS).to_numpy()
    kinds = _KINDS[letters]
    positions = values.column(1).to_numpy().astype(np.int64)
    rows = values.select(range(2, values.num_columns)).rename_columns(
        [str(place) for place in range(values.num_columns - 2)]
    )
    return Changes(table, rows, kinds, np.arange(order, order + count), positions, np.full(count, moment))
