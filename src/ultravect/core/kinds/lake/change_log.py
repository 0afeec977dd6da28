"""The versions of lake tables as a change log: see ``ChangeLog``.

A commit writes files and takes others out. What it changed are the rows of the files that it took out without those of the files that it wrote,
and the other way round, however its writer works: by files written anew, or by marks of deleted rows. Each table has its own versions; a mark
says in its ``proof`` how far each of them was read. A position is the moment of a commit, in microseconds since 1970.
"""

from __future__ import annotations

import datetime as dt
import json
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from itertools import takewhile

import duckdb
import numpy as np
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable, Remark
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
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.session import connected, errors_explained
from ultravect.core.kinds.lake.table_version import Commit, DataFile, TableVersion
from ultravect.core.loading.duckdb.duckdb_reading import read_rows
from ultravect.core.loading.following import PollingFollower, log_lost, read_ahead, redefinition
from ultravect.core.types.canonical import CanonicalType

_TEXT = CanonicalType("text")
_ALWAYS = 1 << 62
"""A position that no window reaches: what a table's own mark says of its version stays with it."""


class LakeLog:
    """See ``ChangeLog``. ``empty``: whether version 0 is that of a table without rows."""

    def __init__(self, place: LakePlace, dialect: Dialect, name: str, *, empty: bool) -> None:
        self._place, self._dialect, self.name, self._empty = place, dialect, name, empty

    def lacks(self, tables: Sequence[LiveTable]) -> Sequence[Remark]:
        return ()

    def identity(self, table: LiveTable) -> Sequence[str] | None:
        return [column.name for column in table.columns]

    def sent(self, table: LiveTable) -> Sequence[str]:
        return [column.name for column in table.columns]

    def prepare(self, tables: Sequence[TableName]) -> None:
        pass

    def identifier(self) -> str:
        return self._place.uri("")

    def kept(self) -> Kept:
        return Kept(there=False, position=_now())

    def drop(self) -> bool:
        return False

    def confirm(self, position: int) -> None:
        """Versions are kept as long as the lake's own rules say."""

    def text(self, position: int) -> str:
        moment = dt.datetime(1970, 1, 1, tzinfo=dt.UTC) + dt.timedelta(microseconds=position)
        return moment.isoformat(timespec="microseconds")

    def _open(self, table: TableName, at: str = "") -> TableVersion:
        path = self._place.path(table)
        with explained(self._place.name, path):
            found = open_version(self._place, path, at)
        if found is None:
            raise log_lost(self._place.name, f"there is no table {table} any more")
        return found

    @contextmanager
    def snapshot(self, table: TableName, log: str, position: int) -> Iterator[Snapshot]:
        found = self._open(table)
        with explained(self._place.name, found.path):
            moment = next((commit.moment for commit in found.history if commit.version == found.version), _now())
        version = str(found.version)
        yield Snapshot(version, LogMark(log, position, version, _ALWAYS), moment, lambda: True)

    @contextmanager
    def follow(self, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize) -> Iterator[Iterator[LogEvent]]:
        with read_ahead(_Follower(self, tables, start, size)) as events:
            yield events

    # what a commit changed

    def _is_none(self, version: int) -> bool:
        return self._empty and not version

    def newest_of(self, table: TableName, versions: set[int]) -> int:
        """The newest of some versions, whose numbers need not rise."""
        known = versions - {0}
        if len(known) < 2:
            return next(iter(known), 0)
        found = self._open(table)
        with explained(self._place.name, found.path):
            return next((commit.version for commit in found.history if commit.version in known), max(known))

    def versions_since(self, table: TableName, version: int) -> list[Commit]:
        """The commits after a version that changed rows, the oldest first."""
        newest = self._open(table)
        if newest.version == version:
            return []
        with explained(self._place.name, newest.path):
            history = newest.history
        known = any(commit.version == version for commit in history)
        if not known and not self._is_none(version):
            raise log_lost(
                self._place.name, f"{table} no longer has version {version}; what was committed since is not known"
            )
        return list(takewhile(lambda commit: commit.version != version, history))[::-1]

    def changes_of(
        self, table: LoggedTable, before: int, commit: Commit, order: int
    ) -> Iterator[Changes | Redefined]:
        """The changes of one commit, whose version comes after ``before``; first how the table differs from what is known of it."""
        then = None if self._is_none(before) else self._open(table.name, str(before))
        now = self._open(table.name, str(commit.version))
        held = {file.identity: file for file in then.files} if then is not None else {}
        new = {file.identity: file for file in now.files}
        gone = [file for identity, file in held.items() if identity not in new]
        added = [file for identity, file in new.items() if identity not in held]
        with tempfile.TemporaryDirectory(prefix="ultravect-lake-") as spill:
            session = connected(spill)
            try:
                with errors_explained(self._place.name, f"reading what {table.name} has changed"):
                    yield from self._redefined(session, table, now)
                    yield from self._rows(session, table, (then, gone), (now, added), commit, order)
            finally:
                session.close()

    def _redefined(
        self, session: duckdb.DuckDBPyConnection, table: LoggedTable, now: TableVersion
    ) -> Iterator[Redefined]:
        held = {column.name: column.native for column in table.columns}
        here = _natives(session, now.schema)
        if (
            all(here.get(name) == native for name, native in held.items())
            and here.keys() <= held.keys() | table.left_out
        ):
            return
        there = _natives(session, self._open(table.name).schema)
        missing = [name for name in held if name not in here]
        found = redefinition(
            table.name,
            {name: there[name] for name in here if name not in held and name not in table.left_out and name in there},
            [name for name in missing if name not in there],
            {
                name: (held[name], there[name])
                for name, native in here.items()
                if name in held and native != held[name] and there.get(name, held[name]) != held[name]
            },
        )
        if found is not None and found.what not in table.accepted:
            yield found

    def _rows(
        self,
        session: duckdb.DuckDBPyConnection,
        table: LoggedTable,
        before: tuple[TableVersion | None, Sequence[DataFile]],
        after: tuple[TableVersion, Sequence[DataFile]],
        commit: Commit,
        order: int,
    ) -> Iterator[Changes]:
        quote = self._dialect.quote
        sides = {"gone": before, "new": after}
        for name, (version, files) in sides.items():
            if version is None or not files:
                continue
            session.register(f"files_{name}", version.dataset_of(files))
            there = set(version.schema.names)
            listed = ", ".join(
                quote(column.name) if column.name in there else f"NULL::{column.native} AS {quote(column.name)}"
                for column in table.columns
            )
            session.execute(f"CREATE TEMP TABLE rows_{name} AS SELECT {listed} FROM files_{name}")
            session.unregister(f"files_{name}")
        names = [name for name, (version, files) in sides.items() if version is not None and files]
        both = len(names) == 2
        for name, other in (("gone", "new"), ("new", "gone")):
            if name in names:
                less = f" EXCEPT ALL SELECT * FROM rows_{other}" if both else ""
                session.execute(f"CREATE TEMP TABLE {name} AS SELECT * FROM rows_{name}{less}")
        selected = ", ".join(
            self._dialect.readable(quote(column.name), column.native, column.type) for column in table.columns
        )
        keys = [quote(table.columns[place].name) for place in table.keys]
        same = " AND ".join(f"a.{key} IS NOT DISTINCT FROM b.{key}" for key in keys)
        for name, other, kind in (("gone", "new", Kind.DELETE), ("new", "gone", Kind.INSERT)):
            if name not in names:
                continue
            found = f"EXISTS (SELECT 1 FROM {other} b WHERE {same})" if both and keys else ""
            if not found:
                parts = [(kind, "")]
            elif kind == Kind.DELETE:
                parts = [(kind, f" WHERE NOT {found}")]
            else:
                parts = [(Kind.UPDATE, f" WHERE {found}"), (kind, f" WHERE NOT {found}")]
            for what, where in parts:
                for values in read_rows(
                    session,
                    f"SELECT {selected} FROM {name} a{where}",
                    [column.type or _TEXT for column in table.columns],
                ):
                    yield _changes(table.name, values, what, order, commit)
                    order += values.num_rows


def _natives(session: duckdb.DuckDBPyConnection, schema: pa.Schema) -> dict[str, str]:
    session.register("shape", schema.empty_table())
    found = {
        str(name): str(native) for name, native, *_ in session.execute("DESCRIBE SELECT * FROM shape").fetchall()
    }
    session.unregister("shape")
    return found


def _changes(table: TableName, values: pa.Table, kind: Kind, order: int, commit: Commit) -> Changes:
    count = values.num_rows
    return Changes(
        table,
        values,
        np.full(count, kind, np.int8),
        np.arange(order, order + count),
        np.full(count, commit.moment),
        np.full(count, commit.moment),
    )


def _now() -> int:
    return int(time.time() * 1_000_000)


class _Follower(PollingFollower):
    def __init__(self, log: LakeLog, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize) -> None:
        super().__init__(size.seconds)
        self._log, self._tables, self._rows = log, tables, size.rows
        # of a table that was copied anew, its own mark is newer than that of the window
        self._read = {
            table.name: log.newest_of(
                table.name, {int(table.mark.snapshot or 0), _proved(table.mark.proof).get(str(table.name), 0)}
            )
            for table in tables
        }
        self._given, self._moment = start.position, 0

    def window(self) -> Iterator[LogEvent]:
        waiting = [
            (commit, table)
            for table in self._tables
            for commit in self._log.versions_since(table.name, self._read[table.name])
        ]
        waiting.sort(key=lambda pair: pair[0].moment)
        order, rows = 0, 0
        for commit, table in waiting:
            if commit.changes_rows:
                for event in self._log.changes_of(table, self._read[table.name], commit, order):
                    if not isinstance(event, Changes):
                        yield self._end()
                    else:
                        order += event.values.num_rows
                        rows += event.values.num_rows
                    yield event
            self._read[table.name] = commit.version
            self._given, self._moment = max(self._given + 1, commit.moment), commit.moment
            if rows >= self._rows:
                yield self._end()
                rows = 0
            if self.over:
                return
        yield self._end()

    def _end(self) -> End:
        proof = json.dumps({str(name): version for name, version in self._read.items()}, sort_keys=True)
        return End(self._given, self._moment, proof)


def _proved(proof: str) -> dict[str, int]:
    found: dict[str, int] = json.loads(proof) if proof else {}
    return found
