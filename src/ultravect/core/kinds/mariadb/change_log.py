"""The binary log of MariaDB and MySQL: see ``ChangeLog``.

The server keeps its log for a time, whether it is read or not; nothing is made there. A position is the number of the log's file, times 2**40, and
the place in it; by the GTID that the server has for it is known whether it is still the same log. Tables are copied from snapshots
whose place in the log the server says.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import MySQLdb
import numpy as np
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable, Remark
from ultravect.core.contracts.change_log import (
    Changes,
    Emptied,
    End,
    Kept,
    LogEvent,
    LoggedTable,
    LogMark,
    Redefined,
    Snapshot,
    WindowSize,
)
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.statements import NotReadable, Token, statements
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb.binlog import FILE, BinlogReader, Broken, RowIncomplete, TableRows, file_name
from ultravect.core.kinds.mariadb.kind import MariadbSettings
from ultravect.core.kinds.mariadb.logged_columns import (
    LoggedColumn,
    Unreadable,
    decoder,
    logged_columns,
    note_collations,
    values_of,
)
from ultravect.core.kinds.mariadb.session import session
from ultravect.core.loading.following import (
    CHUNK_BYTES,
    CHUNK_ROWS,
    WindowClock,
    log_lost,
    read_ahead,
    redefinition,
    taken_changes,
)

_VARIABLES = """
SHOW GLOBAL VARIABLES WHERE variable_name IN ('log_bin', 'binlog_format', 'binlog_row_image', 'binlog_row_metadata', 'server_id', 'server_uuid',
  'version', 'expire_logs_days', 'binlog_expire_logs_seconds', 'log_bin_basename', 'log_slave_updates', 'log_replica_updates',
  'lower_case_table_names', 'binlog_row_value_options', 'binlog_transaction_compression')
"""
_GRANTED = "SELECT privilege_type FROM information_schema.user_privileges WHERE privilege_type IN ({listed})"
_FOLLOWS = ("REPLICATION SLAVE", "REPLICATION REPLICA")
_LOOKS = ("BINLOG MONITOR", "REPLICATION CLIENT", "SUPER")
_TABLES = """
SELECT t.table_name, t.table_type, t.engine, coalesce(e.transactions, 'NO'),
  (SELECT group_concat(DISTINCT constraint_name ORDER BY constraint_name SEPARATOR ', ') FROM information_schema.referential_constraints r
   WHERE r.constraint_schema = t.table_schema AND r.table_name = t.table_name
   AND (delete_rule IN ('CASCADE', 'SET NULL', 'SET DEFAULT') OR update_rule IN ('CASCADE', 'SET NULL', 'SET DEFAULT'))),
  (SELECT group_concat(column_name ORDER BY ordinal_position SEPARATOR ', ') FROM information_schema.columns c
   WHERE c.table_schema = t.table_schema AND c.table_name = t.table_name AND column_type LIKE '%%mariadb-5.3%%')
FROM information_schema.tables t LEFT JOIN information_schema.engines e ON e.engine = t.engine
WHERE t.table_schema = %s AND t.table_name = %s
"""
_COLLATIONS = """
SELECT c.id, c.character_set_name, s.maxlen FROM information_schema.{catalogue} c
JOIN information_schema.character_sets s ON s.character_set_name = c.character_set_name WHERE c.id IS NOT NULL
"""
_COLUMNS = """
SELECT column_name, column_type FROM information_schema.columns WHERE table_schema = %s AND table_name = %s ORDER BY ordinal_position
"""
_DAY = 86_400
_BUSY_SECONDS, _WAIT_SECONDS = 600, 0.5
_LOST = 1236
_LOST_WORDS = ("first log file", "next log", "impossible position", "open log file", "purged")
_CHANGE_ROWS = frozenset(["INSERT", "UPDATE", "DELETE", "REPLACE", "LOAD"])
_PARTITION_WORDS = frozenset(["DROP", "TRUNCATE", "EXCHANGE", "CONVERT", "DISCARD", "IMPORT"])


class MariadbLog:
    """See ``ChangeLog``. ``name`` distinguishes its reader from those of other jobs."""

    def __init__(self, connection: str, settings: MariadbSettings, dialect: Dialect, name: str) -> None:
        self._connection, self._settings, self._dialect = connection, settings, dialect
        self.name = name
        self._variables: Mapping[str, str] | None = None

    @contextmanager
    def _session(self, doing: str, **options: Any) -> Iterator[Any]:
        with session(self._connection, self._settings, doing, **options) as opened:
            yield opened

    def _known(self, opened: Any) -> Mapping[str, str]:
        """The server's settings; they are asked once."""
        if self._variables is None:
            self._variables = {_text(name): _text(value) for name, value in _rows(opened, _VARIABLES)}
        return self._variables

    # what is missing

    def lacks(self, tables: Sequence[LiveTable]) -> Sequence[Remark]:
        with self._session("looking whether the log can be followed") as opened:
            known = self._known(opened)
            found = [*self._lacks_of_settings(known), *self._lacks_of_user(opened, known)]
            if known.get("log_bin") == "ON" and not found:
                found += self._lacks_of_filters(opened, known)
            for table in tables:
                found += self._lacks_of_table(opened, table)
        return found

    def _lacks_of_settings(self, known: Mapping[str, str]) -> list[Remark]:
        if known.get("log_bin") != "ON":
            return [
                Remark(
                    "log-level",
                    "the server keeps no log of changes: log_bin is off",
                    "start the server with log_bin = ON",
                )
            ]
        found = []
        if known.get("binlog_format") not in ("ROW", None):
            what = f"the server's log does not say which rows changed: binlog_format is {known['binlog_format']}"
            fix = "SET GLOBAL binlog_format = 'ROW', for sessions that begin after it; and write it in the server's file of settings"
            found.append(Remark("log-level", what, fix))
        if known.get("binlog_row_image", "FULL").upper() not in ("FULL", "FULL_NODUP"):
            what = f"the server's log does not have whole rows: binlog_row_image is {known['binlog_row_image']}"
            fix = "SET GLOBAL binlog_row_image = 'FULL', for sessions that begin after it; and write it in the server's file of settings"
            found.append(Remark("log-row-image", what, fix))
        if known.get("binlog_row_metadata", "") != "FULL":
            if "binlog_row_metadata" in known:
                what = f"the server's log does not name the columns of its rows: binlog_row_metadata is {known['binlog_row_metadata']}"
                fix = "SET GLOBAL binlog_row_metadata = 'FULL'; and write it in the server's file of settings"
            else:
                what, fix = (
                    "the log of this version does not name the columns of its rows",
                    "use MariaDB 10.5, MySQL 8.0, or later",
                )
            found.append(Remark("log-metadata", what, fix))
        if known.get("binlog_row_value_options"):
            fix = "SET GLOBAL binlog_row_value_options = ''"
            found.append(Remark("log-row-image", "the server's log has only parts of documents that change", fix))
        if known.get("binlog_transaction_compression") == "ON":
            fix = "SET GLOBAL binlog_transaction_compression = OFF"
            found.append(
                Remark("log-level", "the server's log has whole transactions compressed, which is not read", fix)
            )
        seconds = _kept_seconds(known)
        if 0 < seconds < _DAY:
            what = f"the server keeps its log for {seconds / 3600:.1f} hours only: a stream that stops for longer has to begin anew"
            fix = f"SET GLOBAL binlog_expire_logs_seconds = {7 * _DAY}"
            found.append(Remark("log-retention", what, fix))
        return found

    def _lacks_of_user(self, opened: Any, known: Mapping[str, str]) -> list[Remark]:
        listed = ", ".join(f"'{name}'" for name in (*_FOLLOWS, *_LOOKS))
        granted = {name for (name,) in _rows(opened, _GRANTED.format(listed=listed))}
        looks = "BINLOG MONITOR" if _is_mariadb(known) else "REPLICATION CLIENT"
        missing = [
            *([] if granted & set(_FOLLOWS) else ["REPLICATION SLAVE"]),
            *([] if granted & set(_LOOKS) else [looks]),
        ]
        if not missing:
            return []
        ((user,),) = _rows(opened, "SELECT current_user()")
        name, _, host = str(user).rpartition("@")
        what = f"user {user} may not follow the log: it lacks {' and '.join(missing)}"
        return [Remark("log-privilege", what, f"GRANT {', '.join(missing)} ON *.* TO '{name}'@'{host}'")]

    def _lacks_of_filters(self, opened: Any, known: Mapping[str, str]) -> list[Remark]:
        found = []
        _, _, taken, ignored = self._status(opened)
        database = self._settings.database
        if database in ignored.split(",") or (taken and database not in taken.split(",")):
            what = f"the server leaves database {database} out of its log: binlog_do_db or binlog_ignore_db"
            found.append(Remark("log-of-database", what, "take that setting out, and restart the server"))
        copies = known.get("log_slave_updates", known.get("log_replica_updates", "ON")) == "OFF"
        if copies and any(int(value) for _, value in _rows(opened, "SHOW GLOBAL STATUS LIKE 'Slaves_running'")):
            what = (
                "the server is a copy of another one, and what it copies is not in its log: log_slave_updates is OFF"
            )
            found.append(
                Remark(
                    "log-of-standby",
                    what,
                    "start it with log_slave_updates = ON; or name the other server in the connection",
                )
            )
        return found

    def _lacks_of_table(self, opened: Any, table: LiveTable) -> list[Remark]:
        schema = table.name.schema or self._settings.database
        found = _rows(opened, _TABLES, (schema, table.name.name))
        if not found:
            return []
        name, kind, engine, transactional, cascades, old = found[0]
        shown = self._dialect.table(table.name)
        if kind == "SYSTEM VERSIONED":
            fix = "from.newer: changed_rows"
            return [
                Remark(
                    "log-of-versioned", f"{name} keeps versions of its rows, which its log does not distinguish", fix
                )
            ]
        if kind != "BASE TABLE":
            fix = "name the tables that it is made of; or from.newer: changed_rows"
            return [Remark("log-of-view", f"{name} is no table: the log does not know its rows", fix)]
        remarks = []
        if transactional != "YES":
            what = f"{name} is of engine {engine}, which has no transactions: its rows and the log cannot be joined"
            remarks.append(Remark("log-of-unlogged", what, f"ALTER TABLE {shown} ENGINE = InnoDB"))
        if cascades:
            what = (
                f"the log does not have what foreign keys do to rows of {name} by themselves ({cascades}): rows that are deleted or set to "
                "NULL with the row that they point to"
            )
            fix = "have these foreign keys made anew with ON DELETE RESTRICT ON UPDATE RESTRICT; or from.newer: changed_rows"
            remarks.append(Remark("log-of-cascades", what, fix))
        if old:
            what = f"{old} of {name} {'is' if ',' not in old else 'are'} stored in an old form, which the log does not describe"
            remarks.append(
                Remark(
                    "log-of-old-times",
                    what,
                    f"SET GLOBAL mysql56_temporal_format = ON, and ALTER TABLE {shown} FORCE",
                )
            )
        return remarks

    def identity(self, table: LiveTable) -> Sequence[str] | None:
        return [column.name for column in table.columns]

    def sent(self, table: LiveTable) -> Sequence[str]:
        return [column.name for column in table.columns if column.type is not None]

    # what is kept

    def identifier(self) -> str:
        with self._session("asking which server it is") as opened:
            known = self._known(opened)
            return f"{known.get('server_uuid') or 'server ' + known.get('server_id', '0')}/{self._settings.database}"

    def prepare(self, tables: Sequence[TableName]) -> None:
        pass

    def _status(self, opened: Any) -> tuple[str, int, str, str]:
        """The file and the place where the log ends now, and which databases alone, or not, are in it."""
        known = self._known(opened)
        renamed = not _is_mariadb(known) and _number(known.get("version", "")) >= (8, 2)
        found = _rows(opened, "SHOW BINARY LOG STATUS" if renamed else "SHOW MASTER STATUS")
        if not found:
            raise UltravectError(
                "log-lost",
                f"connection {self._connection}: the server keeps no log of changes any more",
                connection=self._connection,
            )
        file, place, taken, ignored = found[0][:4]
        return _text(file), int(place), _text(taken or ""), _text(ignored or "")

    def kept(self) -> Kept:
        with self._session("asking where the log ends") as opened:
            file, place, _, _ = self._status(opened)
            return Kept(there=False, position=_position(file, place))

    def keeping(self) -> str:
        """For how long the server keeps its log."""
        with self._session("asking for how long the log is kept") as opened:
            seconds = _kept_seconds(self._known(opened))
        return (
            f"the server keeps it for {seconds / _DAY:,.1f} days"
            if seconds
            else "the server keeps it until it is purged"
        )

    def drop(self) -> bool:
        return False

    def text(self, position: int) -> str:
        name = file_name(_base(self._variables or {}) or b"log", position // FILE).decode()
        return f"{name}:{position % FILE}"

    @contextmanager
    def snapshot(self, table: TableName, log: str, position: int) -> Iterator[Snapshot]:
        doing = f"taking a snapshot of {table}"
        name = f"{self.name} {table}"
        # without converters the C client gives bytes as they came, which kernels convert
        with self._session(doing, use_unicode=False, conv={}) as opened:
            place = self._begin_snapshot(opened, table)
            with self._session(doing) as asking:
                proof = self._proof(asking, place)
            mark = LogMark(log, place, until=place, proof=proof)
            held_snapshots[name] = opened
            try:
                yield Snapshot(name, mark, place, lambda: True)
            finally:
                del held_snapshots[name]

    def _begin_snapshot(self, opened: Any, table: TableName) -> int:
        """Begins a transaction that sees one moment, when no other one is prepared: what those did is in the log before it. Its position."""
        until = time.monotonic() + _BUSY_SECONDS
        shown = self._dialect.table(table)
        while True:
            if _rows(opened, "SHOW STATUS LIKE 'binlog_snapshot_position'"):
                locked = None
                opened.query(b"START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            else:
                # what others do to this one table has ended by then, and is in the log
                opened.query(f"FLUSH TABLES {shown} WITH READ LOCK".encode())
                file, place, _, _ = self._status(opened)
                locked = _position(file, place)
                opened.query(b"START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
                opened.query(b"UNLOCK TABLES")
            try:
                # from now on the table cannot be emptied or changed before the rows were read
                _rows(opened, f"SELECT 1 FROM {shown} LIMIT 1")
                busy = bool(_rows(opened, "XA RECOVER"))
            except MySQLdb.Error as error:
                if error.args[0] != _DEFINITION_CHANGED:
                    raise
                busy = False
            else:
                if not busy:
                    return locked if locked is not None else self._place_of_snapshot(opened)
            opened.query(b"ROLLBACK")
            if time.monotonic() > until:
                raise UltravectError(
                    "log-busy",
                    f"connection {self._connection}: transactions have been prepared for more than {_BUSY_SECONDS // 60} minutes; a table "
                    "can be copied when they have ended",
                    hint="find them by XA RECOVER, end them, and resume",
                    connection=self._connection,
                )
            time.sleep(_WAIT_SECONDS)

    def _place_of_snapshot(self, opened: Any) -> int:
        found = {
            _text(name).lower(): _text(value) for name, value in _rows(opened, "SHOW STATUS LIKE 'binlog_snapshot_%'")
        }
        return _position(found["binlog_snapshot_file"], int(found["binlog_snapshot_position"]))

    def _proof(self, opened: Any, position: int) -> str:
        """The last GTID before a position, of each of their domains; "" where the server does not say it."""
        if not _is_mariadb(self._known(opened)):
            return ""
        file = self.text(position).rpartition(":")[0]
        ((found,),) = _rows(opened, "SELECT binlog_gtid_pos(%s, %s)", (file, position % FILE))
        return str(found or "")

    # following

    @contextmanager
    def follow(self, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize) -> Iterator[Iterator[LogEvent]]:
        beat = int(min(0.5, max(0.05, size.seconds / 2)) * 1_000_000_000)
        with self._session("reading the types of columns") as asking, self._session("following the log") as opened:
            known = self._known(asking)
            self._require_kept(asking, start)
            sums = _rows(asking, "SELECT @@global.binlog_checksum")
            opened.query(
                f"SET @master_heartbeat_period = {beat}, @source_heartbeat_period = {beat}, @mariadb_slave_capability = 4, "
                f"@master_binlog_checksum = '{sums[0][0]}', @source_binlog_checksum = '{sums[0][0]}'".encode()
            )
            catalogue = "collation_character_set_applicability" if _is_mariadb(known) else "collations"
            note_collations(_rows(asking, _COLLATIONS.format(catalogue=catalogue)))
            held = start.proof.partition(_HELD_SINCE)[2]
            begin = _addressable(int(held) if held else start.position)
            reader = BinlogReader(opened, _server_number(self.name), _base(known), begin)
            number, text = reader.open()
            if number:
                raise MySQLdb.OperationalError(number, text)
            follower = _Follower(self, reader, asking, tables, start, size)
            with read_ahead(follower) as events:
                yield events

    def _require_kept(self, opened: Any, start: LogMark) -> None:
        where = self.text(start.position)
        file, _, place = where.rpartition(":")
        kept = {str(name): int(size) for name, size, *_ in _rows(opened, "SHOW BINARY LOGS")}
        why, proof = "", start.proof.partition(_HELD_SINCE)[0]
        if file not in kept:
            why = f"the server has no file {file} of its log any more"
        elif int(place) > kept[file]:
            why = f"the server's log was begun anew: {file} is shorter than it was"
        elif proof and not set(proof.split(",")) <= set(self._proof(opened, start.position).split(",")):
            why = f"the server has another log than the one that was followed: at {where} it does not have {proof}"
        if why:
            raise self.lost(f"{why}; what was committed since {where} is not known")

    def lost(self, detail: str) -> UltravectError:
        return log_lost(self._connection, detail)

    def refusal(self, code: str, what: str, table: TableName | None = None, hint: str = "") -> UltravectError:
        one = f" --object {table}" if table is not None else ""
        return UltravectError(
            code,
            f"connection {self._connection}: {what}",
            hint=hint
            or f"then have it copied anew: ultravect mark JOB --reset{one}, and ultravect stream resume JOB",
            connection=self._connection,
        )

    def confirm(self, position: int) -> None:
        """The server keeps its log as it is set to."""

    @property
    def database(self) -> str:
        return self._settings.database

    @property
    def dialect(self) -> Dialect:
        return self._dialect


held_snapshots: dict[str, Any] = {}
"""Sessions in which a snapshot was begun, by its name: only they can read it."""

_DEFINITION_CHANGED = 1412


def reader_name(job: str, owner: str) -> str:
    """``owner``: what distinguishes the job from one of the same name elsewhere."""
    return f"{job} {hashlib.sha256(owner.encode()).hexdigest()[:8]}"


def _server_number(name: str) -> int:
    """The number by which the server knows a reader: another one for each job, and of no server that people number by hand."""
    return 1 << 30 | int.from_bytes(hashlib.sha256(name.encode()).digest()[:4], "big") >> 2


def _kept_seconds(known: Mapping[str, str]) -> float:
    """For how long the server keeps its log, 0 where it does not end."""
    return float(known.get("binlog_expire_logs_seconds") or 0) or float(known.get("expire_logs_days") or 0) * _DAY


def _base(known: Mapping[str, str]) -> bytes:
    """The name of the log's files without their numbers."""
    return known.get("log_bin_basename", "").rpartition("/")[2].encode()


def _is_mariadb(known: Mapping[str, str]) -> bool:
    return "mariadb" in known.get("version", "").lower()


def _rows(opened: Any, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
    with opened.cursor() as cursor:
        cursor.execute(sql, values or None)
        return list(cursor.fetchall())


def _text(value: Any) -> str:
    return value.decode() if isinstance(value, bytes) else str(value)


def _number(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("-")[0].split(".")[:2] if part.isdigit())


def _position(file: str, place: int) -> int:
    return int(file.rpartition(".")[2]) * FILE + place


def _addressable(position: int) -> int:
    """Where the server can be asked to begin: it takes places of 32 bits; after a transaction beyond those a new file begins."""
    return position if position % FILE < 1 << 32 else (position // FILE + 1) * FILE + 4


@dataclass
class _Followed:
    """A table that is followed, as it is described now. ``places``: for each of its columns that of the log's, None: it has none."""

    table: LoggedTable
    rows: TableRows
    columns: Sequence[LoggedColumn]
    places: Sequence[int | None]


@dataclass
class _Prepared:
    """What a transaction of two phases has changed, which is prepared ``since`` a position."""

    since: int
    items: Sequence[_Followed]


class _Follower:
    def __init__(
        self,
        log: MariadbLog,
        reader: BinlogReader,
        asking: Any,
        tables: Sequence[LoggedTable],
        start: LogMark,
        size: WindowSize,
    ) -> None:
        self._log, self._reader, self._asking, self._clock = log, reader, asking, WindowClock(size)
        self._tables = {(table.name.schema or log.database, table.name.name): table for table in tables}
        self._followed: dict[tuple[str, str], _Followed] = {}
        self._given, self._proof = start.position, start.proof.partition(_HELD_SINCE)[0]
        self._prepares_since = 0
        self._applied: dict[tuple[str, str], _Followed] = {}
        self._held: dict[tuple[bytes, bytes], _Prepared] = {}
        self.over = False

    def events(self) -> Iterator[LogEvent]:
        try:
            while not self.over:
                yield from self._window()
        except Broken as error:
            raise self._log.refusal("database-error", f"the server's log has {error}") from None

    def _window(self) -> Iterator[LogEvent]:
        reader, clock = self._reader, self._clock
        clock.begin()
        reader.renew()
        while not self.over:
            try:
                found = reader.take(CHUNK_BYTES, CHUNK_ROWS)
            except RowIncomplete:
                what = "a row was inserted by a session that does not log whole rows (binlog_row_image)"
                raise self._log.refusal("log-row-image", what) from None
            match found[0]:
                case "alive" if reader.inside:
                    pass
                case "alive" | "commit":
                    if clock.is_due(reader.rows, reader.size, reader.moment, waits=found[0] == "alive"):
                        yield from self._flush()
                        yield self._end(reader.reached)
                        return
                case "full" if self._prepares_since:
                    # what is prepared is given when it is committed
                    reader.renew()
                case "full":
                    clock.gave(reader.rows, reader.size)
                    yield from self._flush()
                    reader.renew()
                case "table":
                    yield from self._describe(*found[1:])
                case "statement":
                    yield from self._statement(
                        found[1].decode("utf-8", "replace"), found[2].decode("utf-8", "replace")
                    )
                case "rollback":
                    if reader.changed:
                        what = "a transaction that changed tables with and without transactions was rolled back"
                        raise self._log.refusal("log-statement", what)
                case "prepares":
                    yield from self._prepares()
                case "prepared":
                    self._prepared(found[1], found[2])
                case "incident":
                    raise self._log.lost("the server says itself that its log is not whole")
                case "unknown":
                    raise self._log.refusal(
                        "log-level", f"the server's log has events of a form ({found[1]}) that is not read"
                    )
                case _:
                    self._failed(*found[1:])

    def _failed(self, number: int, text: str) -> None:
        if number == _LOST and any(word in text for word in _LOST_WORDS):
            raise self._log.lost(text)
        raise MySQLdb.OperationalError(number or 2013, text or "the server has ended the log")

    def _end(self, position: int) -> End:
        self._given = max(self._given, position)
        proof = self._reader.gtid or self._proof
        if self._held:
            proof += f"{_HELD_SINCE}{min(held.since for held in self._held.values())}"
        return End(self._given, self._reader.moment, proof)

    def _flush(self) -> Iterator[LogEvent]:
        for item in self._followed.values() if not self._prepares_since else ():
            if item.rows.rows.rows:
                yield _changes(item)

    # transactions of two phases

    def _prepares(self) -> Iterator[LogEvent]:
        """What is prepared is kept until it is committed, apart from all else."""
        yield from self._flush()
        self._prepares_since = self._reader.position
        self._applied, self._followed = self._followed, {}
        self._reader.forget()

    def _prepared(self, first: bytes, second: bytes) -> None:
        if any(item.rows.rows.rows for item in self._followed.values()):
            self._held[first, second] = _Prepared(self._prepares_since, list(self._followed.values()))
        self._followed, self._prepares_since = self._applied, 0
        self._reader.forget()

    def _completed(self, commits: bool, name: tuple[bytes, bytes]) -> Iterator[LogEvent]:
        held, reader = self._held.pop(name, None), self._reader
        if held is None or not commits:
            return
        yield from self._flush()
        for item in held.items:
            if reader.position < item.table.mark.position:
                continue
            changes = _changes(item)
            count = len(changes.kinds)
            self._clock.gave(count, changes.values.nbytes)
            yield replace(
                changes,
                order=changes.order - changes.order[0] + reader.order,
                positions=np.full(count, reader.position),
                moments=np.full(count, reader.committed_at),
            )
            reader.order += int(changes.order[-1] - changes.order[0]) + 1

    # definitions

    def _describe(
        self, number: int, described: bytes, database: bytes, name: bytes, rest: bytes
    ) -> Iterator[LogEvent]:
        key = (database.decode(), name.decode())
        table = self._tables.get(key)
        if table is None:
            self._reader.set_table(number, described, None)
            return
        if self._reader.position < table.mark.position and not self._prepares_since:
            # what was copied already; it may have been described in another way then
            self._reader.set_table(number, described, None)
            self._reader.forget()
            return
        columns = logged_columns(rest)
        if columns is None:
            what = f"the log does not name the columns of {table.name}: binlog_row_metadata was not FULL"
            raise self._log.refusal("log-metadata", what, table.name)
        redefined = self._compared(table, columns, self._followed.get(key))
        if redefined is not None and redefined.what not in table.accepted:
            yield from self._flush()
            if not self._reader.changed:
                yield self._end(self._reader.position)
            yield redefined
        yield from self._flush()
        names = [column.name for column in columns]
        places = [names.index(column.name) if column.name in names else None for column in table.columns]
        for column, place in zip(table.columns, places, strict=True):
            self._require_readable(table, column, columns[place] if place is not None else None)
        keys = [place for place in (places[key] for key in table.keys) if place is not None]
        # those that are left out would be decoded for nothing, but have to be passed over
        rows = TableRows([column.described for column in columns], keys)
        rows.rows.after = 0 if self._prepares_since else table.mark.position
        self._followed[key] = _Followed(table, rows, columns, places)
        self._reader.forget()
        self._reader.set_table(number, described, rows)

    def _require_readable(self, table: LoggedTable, column: LiveColumn, logged: LoggedColumn | None) -> None:
        try:
            if logged is not None and logged.code == _MYSQL_JSON:
                raise Unreadable("a document in MySQL's own binary form, which is not read from the log")
            if logged is not None:
                decoder(logged.collation)
        except Unreadable as error:
            hint = "leave it out: from.query, or columns without it; or have it made utf8mb4; then resume"
            raise self._log.refusal(
                "log-column", f"column {column.name} of {table.name} is {error}", table.name, hint
            ) from None

    def _compared(
        self, table: LoggedTable, now: Sequence[LoggedColumn], before: _Followed | None
    ) -> Redefined | None:
        """How a table differs from what is known of it; None where it does not."""
        held = {column.name: column.native for column in table.columns}
        logged = {column.name: column for column in now}
        other = [name for name, native in held.items() if name in logged and not logged[name].fits(native)]
        new = [name for name in logged if name not in held and name not in table.left_out]
        missing = [name for name in held if name not in logged]
        if not (other or new or missing):
            return None
        there = {str(name): str(native) for name, native in _rows(self._asking, _COLUMNS, self._place(table))}
        earlier = {column.name: column for column in before.columns} if before is not None else {}
        # see the same of other logs: a column that is missing was added later, unless the table had it before
        added = {name: there[name] for name in new if name in there}
        gone = [name for name in missing if name in earlier or name not in there]
        gone += [name for name in new if name not in there]
        retyped = {
            name: (held[name], there.get(name, "another type"))
            for name in other
            if there.get(name) != held[name] and (name not in earlier or earlier[name] != logged[name])
        }
        return redefinition(table.name, added, gone, retyped)

    def _place(self, table: LoggedTable) -> tuple[str, str]:
        return table.name.schema or self._log.database, table.name.name

    # statements

    def _statement(self, database: str, text: str) -> Iterator[LogEvent]:
        """A statement that the log has as such: one that changes definitions, or rows without saying which."""
        try:
            found = statements(text, replace(self._log.dialect.lexical, executable_comments=False))
        except NotReadable:
            # too long, or cut: only whether it could be about a table that is followed is looked at
            some = next((table for (_, name), table in self._tables.items() if name in text), None)
            if some is not None and text.split(None, 1)[0].upper() in _CHANGE_ROWS:
                raise self._by_statement(some) from None
            return
        for statement in found:
            words = list(statement.words)
            first = words[0] if words else ""
            if first == "XA":
                yield from self._of_two_phases(words, statement.tokens, text)
            if first == "ROLLBACK" and self._reader.changed:
                raise self._log.refusal(
                    "log-statement", "a part of a transaction was rolled back after it was logged"
                )
            if first == "DROP" and words[1:2] in (["DATABASE"], ["SCHEMA"]):
                dropped = _name(statement.tokens[-1], text)
                named = [table for (schema, _), table in self._tables.items() if schema == dropped]
            else:
                named = self._named(first, statement.tokens, text, database)
            if named:
                yield from self._changed(first, words, named)

    def _of_two_phases(self, words: Sequence[str], tokens: Sequence[Token], text: str) -> Iterator[LogEvent]:
        if words[1:2] == ["START"] and not self._prepares_since:
            yield from self._prepares()
        if words[1:2] in (["COMMIT"], ["ROLLBACK"]):
            parts = [bytes.fromhex(text[token.start + 1 : token.end - 1]) for token in tokens if token.kind == "text"]
            yield from self._completed(words[1] == "COMMIT", (parts[0], parts[1] if len(parts) > 1 else b""))

    def _changed(self, first: str, words: Sequence[str], named: Sequence[LoggedTable]) -> Iterator[LogEvent]:
        for table in named:
            if self._reader.position < table.mark.position:
                continue
            what = ""
            if first in _CHANGE_ROWS:
                raise self._by_statement(table)
            if first == "TRUNCATE":
                yield from self._emptied(table)
            elif first == "DROP" and words[1:2] in (["TABLE"], ["DATABASE"], ["SCHEMA"], ["TEMPORARY"]):
                if words[1] == "TEMPORARY":
                    continue
                if _rows(self._asking, _COLUMNS, self._place(table)):
                    yield from self._emptied(table)
                else:
                    what = f"{table.name} was dropped"
            elif first == "CREATE" and "TABLE" in words[:4] and "TEMPORARY" not in words[:4]:
                yield from self._emptied(table)
            elif first == "RENAME" or (first == "ALTER" and "RENAME" in words and not _renames_parts(words)):
                what = f"{table.name} was renamed, or another table took its name"
            elif first == "ALTER" and "PARTITION" in words and _PARTITION_WORDS & set(words):
                what = f"partitions of {table.name} were dropped, emptied or exchanged"
            if what and what not in table.accepted:
                yield from self._flush()
                yield self._end(self._reader.position)
                yield Redefined(table.name, what, replaced=True)

    def _emptied(self, table: LoggedTable) -> Iterator[LogEvent]:
        yield from self._flush()
        yield Emptied(table.name, self._reader.position, self._reader.committed_at)

    def _by_statement(self, table: LoggedTable) -> UltravectError:
        what = f"rows of {table.name} were changed by a session that logs statements, not rows (binlog_format)"
        return self._log.refusal("log-statement", what, table.name)

    def _named(self, first: str, tokens: Sequence[Token], text: str, database: str) -> list[LoggedTable]:
        """The tables that are followed which a statement changes, in their order; any that it names, where it changes rows."""
        places = range(len(tokens)) if first in _CHANGE_ROWS else _table_places(first, tokens)
        found = []
        for place in places:
            if place >= len(tokens) or tokens[place].kind not in ("word", "name"):
                continue
            schema, at = database, place
            if tokens[place + 1 : place + 2] and tokens[place + 1].text == "." and place + 2 < len(tokens):
                schema, at = _name(tokens[place], text), place + 2
            key = self._key(schema, _name(tokens[at], text))
            if key is not None and self._tables[key] not in found:
                found.append(self._tables[key])
        return found

    def _key(self, schema: str, name: str) -> tuple[str, str] | None:
        return next(
            (key for key in self._tables if key == (schema, name) or _folded(key) == _folded((schema, name))), None
        )


_MYSQL_JSON = 245
_HELD_SINCE = ";prepared="
"""After the GTID of a mark: from where on transactions that are prepared have to be read again."""


def _folded(key: tuple[str, str]) -> tuple[str, str]:
    return key[0].casefold(), key[1].casefold()


def _renames_parts(words: Sequence[str]) -> bool:
    """Whether what is renamed is a column or an index, not the table."""
    return all(
        words[place + 1 : place + 2] in (["COLUMN"], ["INDEX"], ["KEY"])
        for place, word in enumerate(words)
        if word == "RENAME"
    )


def _name(token: Token, text: str) -> str:
    written = text[token.start : token.end]
    if token.kind == "name":
        mark = written[0]
        return written[1:-1].replace(mark * 2, mark)
    return written


def _table_places(first: str, tokens: Sequence[Token]) -> list[int]:
    """Where the tables stand that a statement defines, empties, renames or drops."""
    words = [token.text if token.kind == "word" else "" for token in tokens]
    if first not in ("TRUNCATE", "DROP", "RENAME", "ALTER", "CREATE"):
        return []
    at = next((place for place, word in enumerate(words[:6]) if word in ("TABLE", "TABLES")), None)
    if at is None:
        return [1] if first == "TRUNCATE" else []
    at += 1
    while at < len(words) and words[at] in ("IF", "NOT", "EXISTS"):
        at += 1
    places = [at]
    if first in ("DROP", "RENAME"):
        places += [place + 1 for place in range(at, len(tokens)) if tokens[place].text in (",", "TO")]
    elif first == "ALTER":
        for place in range(at, len(words)):
            if words[place] == "RENAME":
                places.append(place + 1 + (words[place + 1 : place + 2] in (["TO"], ["AS"])))
    return places


def _changes(item: _Followed) -> Changes:
    """What was read of a table since; its rows are taken out."""

    def values(column: LiveColumn, at: int, count: int, buffers: Sequence[Any]) -> pa.Array:
        return values_of(item.columns[at], column.native, column.type, count, buffers)

    return taken_changes(item.table, item.rows.rows, item.places, values)
