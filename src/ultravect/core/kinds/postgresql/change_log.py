"""The log of PostgreSQL, by logical decoding: see ``ChangeLog``.

A publication says which tables are decoded, a replication slot keeps the log for us; both carry the job's name. Changes come by the
replication protocol, values as text, as the server writes them for a session with our settings. Which transactions are in a snapshot
already is decided by their numbers, so that a table can be copied at any time while the log goes on.

https://www.postgresql.org/docs/current/protocol-replication.html
"""

from __future__ import annotations

import hashlib
import select
import struct
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from typing import Any

import psycopg
import pyarrow as pa
import pyarrow.compute as pc
from psycopg import IsolationLevel, sql
from psycopg.pq import ExecStatus

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable, Remark
from ultravect.core.contracts.change_log import (
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
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.catalogue import Session, type_names
from ultravect.core.kinds.postgresql.kind import PostgresqlSettings
from ultravect.core.kinds.postgresql.log_messages import MessageDecoder
from ultravect.core.kinds.postgresql.session import explained, sign_in
from ultravect.core.loading.change_rows import ChangeRows
from ultravect.core.loading.following import (
    CHUNK_BYTES,
    CHUNK_ROWS,
    WindowClock,
    log_lost,
    read_ahead,
    redefinition,
    taken_changes,
)
from ultravect.core.types.arrow import array_from
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.from_text import convert
from ultravect.core.types.stored import STORED, stored_values

_LEAST_VERSION = 100_000
_ROOTS_VERSION, _FAILOVER_VERSION, _STANDBY_VERSION = 130_000, 170_000, 160_000
_TEXT = CanonicalType("text")
_PREPARE_SECONDS, _BUSY_SECONDS = 600, 30
_WAIT_SECONDS = 0.5
_STATUS_SECONDS = 10.0
_EPOCH = 946_684_800
_NAMED = 5

_SETUP = """
SELECT current_setting('server_version_num')::int, current_setting('wal_level'), pg_is_in_recovery(),
  (SELECT rolsuper OR rolreplication FROM pg_roles WHERE rolname = current_user),
  current_setting('max_replication_slots')::int, (SELECT count(*) FROM pg_replication_slots),
  EXISTS (SELECT 1 FROM pg_replication_slots WHERE slot_name = %(name)s), current_setting('max_wal_senders')::int,
  has_database_privilege(current_database(), 'CREATE'), current_user::text, current_database()::text,
  EXISTS (SELECT 1 FROM pg_publication WHERE pubname = %(publication)s)
"""
_TABLES = """
SELECT n.nspname, c.relname, c.relkind::text, c.relpersistence::text, c.relreplident::text, pg_has_role(c.relowner, 'USAGE'),
  EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary),
  EXISTS (SELECT 1 FROM pg_publication_tables p WHERE p.pubname = %(publication)s AND p.schemaname = n.nspname AND p.tablename = c.relname)
FROM unnest(%(names)s::text[]) t(name) JOIN pg_class c ON c.oid = to_regclass(t.name) JOIN pg_namespace n ON n.oid = c.relnamespace
"""
_PUBLISHES = "SELECT pubinsert AND pubupdate AND pubdelete AND pubtruncate FROM pg_publication WHERE pubname = %s"
_IDENTITY = """
SELECT c.relreplident::text, ARRAY(
  SELECT a.attname::text FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])
  WHERE i.indrelid = c.oid AND CASE c.relreplident WHEN 'd' THEN i.indisprimary WHEN 'i' THEN i.indisreplident ELSE false END
  ORDER BY a.attnum)
FROM pg_class c WHERE c.oid = to_regclass(%s)
"""
_SENT = """
SELECT attname::text FROM pg_attribute
WHERE attrelid = to_regclass(%s) AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum
"""
_SENT_EARLY = _SENT.replace(" AND attgenerated = ''", "")
_STORED = """
SELECT pg_relation_filenode(t.oid), ARRAY(SELECT pg_relation_filenode(relid) FROM pg_partition_tree(t.oid) ORDER BY relid)
FROM (SELECT to_regclass(%s) AS oid) t
"""
_STORED_EARLY = "SELECT pg_relation_filenode(to_regclass(%s))"
_NOW = "CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_lsn() END"
_STATE = """
SELECT current_setting('wal_level'), (SELECT rolsuper OR rolreplication FROM pg_roles WHERE rolname = current_user),
  (SELECT json_agg(json_build_array(slot_name, pg_wal_lsn_diff({now}, restart_lsn)::bigint) ORDER BY slot_name)
   FROM pg_replication_slots WHERE slot_name LIKE 'ultravect\\_%' AND NOT active AND database = current_database())
""".replace("{now}", _NOW)
_KEPT = """
SELECT pg_wal_lsn_diff({now}, restart_lsn)::bigint, confirmed_flush_lsn - '0/0'::pg_lsn, to_jsonb(s) ->> 'wal_status',
  to_jsonb(s) ->> 'invalidation_reason', restart_lsn IS NULL
FROM pg_replication_slots s WHERE slot_name = %s AND database = current_database()
""".replace("{now}", _NOW)


def slot_name(job: str, owner: str) -> str:
    """What the server calls what it keeps for a job; ``owner``: what distinguishes the job from one of the same name elsewhere."""
    plain = "".join(letter if letter.isascii() and letter.isalnum() else "_" for letter in job.lower())
    return f"ultravect_{plain[:40]}_{hashlib.sha256(owner.encode()).hexdigest()[:8]}"


@dataclass(frozen=True)
class _Definition:
    """A table as a message describes it: its columns by name, each with the number of its type and its modifier."""

    number: int
    table: TableName
    columns: Mapping[str, tuple[int, int]]


class PostgresqlLog:
    """See ``ChangeLog``. ``publication``: one that is there already, "" to have one of our own."""

    def __init__(
        self, connection: str, settings: PostgresqlSettings, roots: Sequence[str], name: str, publication: str = ""
    ) -> None:
        self._connection, self._settings, self._roots = connection, settings, roots
        self.name, self._publication, self._own = name, publication or name, not publication
        self._follower: _Follower | None = None
        self._asking: Session | None = None

    @contextmanager
    def _session(self, doing: str) -> Iterator[Session]:
        session = sign_in(self._connection, self._settings, "log", self._roots)
        with closing(session), explained(self._connection, doing):
            session.autocommit = True
            yield session

    # what is missing

    def lacks(self, tables: Sequence[LiveTable]) -> Sequence[Remark]:
        names = {"name": self.name, "publication": self._publication}
        with self._session("looking whether the log can be followed") as session:
            row = session.execute(_SETUP, names).fetchone()
            assert row is not None, "one row was asked for"
            version, level, standby, replicates, slots, used, ours, senders, creates, user, database, published = row
            if version < _LEAST_VERSION:
                what = f"PostgreSQL {version // 10_000} has no log that can be followed"
                return [Remark("log-missing", what, "use version 10 or later; or from.newer: {by: COLUMN}")]
            found = []
            if standby and version < _STANDBY_VERSION:
                fix = "name the primary in the connection"
                found.append(Remark("log-of-standby", "the server is a standby, whose log cannot be followed", fix))
            if level != "logical":
                found.append(
                    Remark(
                        "log-level",
                        f"the server's log does not say which rows changed: wal_level is {level}",
                        "ALTER SYSTEM SET wal_level = 'logical', and restart the server",
                    )
                )
            if not replicates:
                what = f"user {user} may not follow the log"
                found.append(Remark("log-privilege", what, f"ALTER ROLE {_quoted(user)} REPLICATION"))
            if not ours and used >= slots:
                what = f"all {slots} replication slots of the server are in use"
                fix = f"ALTER SYSTEM SET max_replication_slots = {slots + 10}, and restart the server; or drop one that is not used"
                found.append(Remark("log-full", what, fix))
            if not senders:
                fix = "ALTER SYSTEM SET max_wal_senders = 10, and restart the server"
                found.append(Remark("log-full", "the server sends its log to no one: max_wal_senders is 0", fix))
            described = self._described(session, tables)
            found += self._lacks_of_tables(described)
            found += self._lacks_of_publication(session, described, bool(published), bool(creates), user, database)
        return found

    def _described(self, session: Session, tables: Sequence[LiveTable]) -> list[dict[str, Any]]:
        names = {"publication": self._publication, "names": [_named(table.name) for table in tables]}
        keys = ("schema", "table", "kind", "persistence", "identity", "owned", "primary", "published")
        return [dict(zip(keys, row, strict=True)) for row in session.execute(_TABLES, names)]

    def _lacks_of_tables(self, described: Sequence[dict[str, Any]]) -> list[Remark]:
        found = []
        for item in described:
            table = TableName(item["schema"], item["table"])
            if item["kind"] == "p":
                what = f"a partition of {table} that is emptied, detached or dropped by itself is not in the log: its rows stay in the target"
                found.append(
                    Remark("log-of-partitions", what, "delete such rows, or have the table copied anew after that")
                )
            if item["kind"] not in ("r", "p"):
                fix = "name the tables that it is made of; or from.newer: changed_rows"
                found.append(Remark("log-of-view", f"{table} is no table: the log does not know its rows", fix))
            elif item["persistence"] != "p":
                what = f"{table} is not logged: the log does not know its rows"
                found.append(Remark("log-of-unlogged", what, f"ALTER TABLE {_named(table)} SET LOGGED"))
            elif item["identity"] == "n" or (item["identity"] == "d" and not item["primary"]):
                found.append(
                    Remark(
                        "log-identity",
                        f"the log does not say which row of {table} was updated or deleted: it has no primary key, or replica identity nothing",
                        f"ALTER TABLE {_named(table)} REPLICA IDENTITY FULL; or REPLICA IDENTITY USING INDEX, with a unique index of columns "
                        "that are NOT NULL",
                    )
                )
        return found

    def _lacks_of_publication(
        self,
        session: Session,
        described: Sequence[dict[str, Any]],
        published: bool,
        creates: bool,
        user: str,
        database: str,
    ) -> list[Remark]:
        missing = [TableName(item["schema"], item["table"]) for item in described if not item["published"]]
        listed = ", ".join(map(_named, missing))
        name = _quoted(self._publication)
        if not self._own:
            if not published:
                fix = f"CREATE PUBLICATION {name} FOR TABLE {listed}"
                return [Remark("publication-missing", f"there is no publication {self._publication}", fix)]
            row = session.execute(_PUBLISHES, (self._publication,)).fetchone()
            if row is not None and not row[0]:
                what = f"publication {self._publication} leaves out some of insert, update, delete and truncate"
                fix = f"ALTER PUBLICATION {name} SET (publish = 'insert, update, delete, truncate')"
                return [Remark("publication-partial", what, fix)]
            if missing:
                what = f"publication {self._publication} does not have {', '.join(map(str, missing[:_NAMED]))}"
                return [Remark("publication-partial", what, f"ALTER PUBLICATION {name} ADD TABLE {listed}")]
            return []
        foreign = [TableName(item["schema"], item["table"]) for item in described if not item["owned"]]
        if not missing or ((creates or published) and not foreign):
            return []
        if foreign:
            what = f"user {user} does not own {', '.join(map(str, foreign[:_NAMED]))}: only its owner can publish a table"
        else:
            what = f"user {user} may not create a publication in database {database}"
        return [
            Remark(
                "publication-refused",
                what,
                f"have one made: CREATE PUBLICATION hut_changes FOR TABLE {listed}; and name it: from.newer: "
                "{log: true, publication: hut_changes}",
            )
        ]

    def identity(self, table: LiveTable) -> Sequence[str] | None:
        with self._session(f"looking how the log names rows of {table.name}") as session:
            row = session.execute(_IDENTITY, (_named(table.name),)).fetchone()
        if row is None:
            return None
        if row[0] == "f":
            return [column.name for column in table.columns]
        return list(row[1]) or None

    def sent(self, table: LiveTable) -> Sequence[str]:
        with self._session(f"looking which columns of {table.name} are logged") as session:
            return sent_columns(session, table.name)

    # what is kept

    def identifier(self) -> str:
        with self._replication(60) as session:
            result = session.pgconn.exec_(b"IDENTIFY_SYSTEM")
            if result.status != ExecStatus.TUPLES_OK:
                raise psycopg.errors.error_from_result(result)
            system = (result.get_value(0, 0) or b"").decode()
        return f"{system}/{self._settings.database}"

    def prepare(self, tables: Sequence[TableName]) -> None:
        with self._session("preparing the log") as session:
            session.execute(f"SET statement_timeout = '{_PREPARE_SECONDS}s'".encode())
            if self._own and self._publish(session, tables) and self._kept(session).there:
                # what a transaction did to a new table before is not decoded: those that were under way have to end
                _wait_for_older(session, self._connection)
            if not self._kept(session).there:
                failover = ", false, false, true" if session.info.server_version >= _FAILOVER_VERSION else ""
                session.execute(
                    f"SELECT pg_create_logical_replication_slot(%s, 'pgoutput'{failover})".encode(), (self.name,)
                )

    def _publish(self, session: Session, tables: Sequence[TableName]) -> bool:
        """Has the publication have just these tables; whether some are new there."""
        there = session.execute("SELECT 1 FROM pg_publication WHERE pubname = %s", (self._publication,)).fetchone()
        listed = ", ".join(map(_named, tables))
        name = _quoted(self._publication)
        if there is None:
            roots = (
                " WITH (publish_via_partition_root = true)" if session.info.server_version >= _ROOTS_VERSION else ""
            )
            session.execute(f"CREATE PUBLICATION {name} FOR TABLE {listed}{roots}".encode())
            return True
        rows = session.execute(
            "SELECT schemaname, tablename FROM pg_publication_tables WHERE pubname = %s", (self._publication,)
        )
        held = {TableName(*row) for row in rows}
        if held == set(tables):
            return False
        session.execute(f"ALTER PUBLICATION {name} SET TABLE {listed}".encode())
        return bool(set(tables) - held)

    def _kept(self, session: Session) -> Kept:
        row = session.execute(_KEPT.encode(), (self.name,)).fetchone()
        if row is None:
            return Kept(there=False)
        size, position, status, reason, removed = row
        lost = str(reason or "")
        if not lost and (status == "lost" or removed):
            lost = "its log was removed to free disk space"
        return Kept(True, size, int(position or 0), lost)

    def kept(self) -> Kept:
        if self._asking is not None:
            with explained(self._connection, "looking what the server keeps of its log"):
                return self._kept(self._asking)
        with self._session("looking what the server keeps of its log") as session:
            return self._kept(session)

    def drop(self) -> bool:
        with self._session("giving up what the server keeps of its log") as session:
            there = self._kept(session).there
            if there:
                session.execute(
                    "SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = %s AND active",
                    (self.name,),
                )
                _again_while(
                    psycopg.errors.ObjectInUse,
                    lambda: session.execute("SELECT pg_drop_replication_slot(%s)", (self.name,)),
                )
            if self._own:
                session.execute(f"DROP PUBLICATION IF EXISTS {_quoted(self._publication)}".encode())
        return there

    @contextmanager
    def snapshot(self, table: TableName, log: str, position: int) -> Iterator[Snapshot]:
        session = sign_in(self._connection, self._settings, "snapshot", self._roots)
        with closing(session), explained(self._connection, "taking a snapshot"):
            session.read_only = True
            session.isolation_level = IsolationLevel.REPEATABLE_READ
            stored = self._stored(table)
            current = (
                "pg_current_snapshot" if session.info.server_version >= _ROOTS_VERSION else "txid_current_snapshot"
            )
            row = session.execute(f"SELECT pg_export_snapshot(), {current}()::text".encode()).fetchone()
            assert row is not None, "one row was asked for"
            # every transaction that the snapshot sees was committed before this position
            until = session.execute("SELECT (pg_current_wal_insert_lsn() - '0/0'::pg_lsn)::text").fetchone()
            assert until is not None, "one row was asked for"
            mark = LogMark(log, position, str(row[1]), int(str(until[0])))
            yield Snapshot(str(row[0]), mark, mark.until, lambda: self._stored(table) == stored)

    def _stored(self, table: TableName) -> Any:
        """The files in which the rows of a table are now; they change when it is emptied or written anew."""
        with self._session(f"looking where {table} is stored") as session:
            asked = _STORED if session.info.server_version >= 120_000 else _STORED_EARLY
            return session.execute(asked, (_named(table),)).fetchone()

    def text(self, position: int) -> str:
        return lsn(position)

    # following

    @contextmanager
    def _replication(self, timeout: int) -> Iterator[Session]:
        """A session that speaks the replication protocol; the server waits so many seconds for a sign of us."""
        session = sign_in(
            self._connection,
            self._settings,
            "log",
            self._roots,
            replication="database",
            sets=(f"wal_sender_timeout={timeout}s",),
        )
        with closing(session), explained(self._connection, "following the log"):
            session.autocommit = True
            yield session

    @contextmanager
    def follow(self, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize) -> Iterator[Iterator[LogEvent]]:
        with self._session("reading the types of columns") as asking, self._replication(3600) as session:
            self._require_kept(asking, start.position)
            self._begin(session, start.position)
            self._follower = _Follower(session, asking, tables, start.position, size)
            self._asking = asking
            with read_ahead(self._follower) as events:
                try:
                    yield events
                finally:
                    self._follower.over = True
                    self._follower = self._asking = None

    def _require_kept(self, session: Session, position: int) -> None:
        kept, why = self._kept(session), ""
        if not kept.there:
            why = f"the server has no replication slot {self.name} any more"
        elif kept.lost:
            why = f"the server has given up what it kept for us: {kept.lost}"
        elif kept.position > position:
            why = f"slot {self.name} was made anew, or followed by others: it begins at {lsn(kept.position)}"
        if why:
            raise log_lost(self._connection, f"{why}; what was committed since {lsn(position)} is not known")

    def _begin(self, session: Session, position: int) -> None:
        command = sql.SQL("START_REPLICATION SLOT {} LOGICAL {} (proto_version '1', publication_names {})").format(
            sql.Identifier(self.name), sql.SQL(lsn(position)), sql.Literal(_quoted(self._publication))
        )

        def begin() -> None:
            result = session.pgconn.exec_(command.as_bytes(session))
            if result.status != ExecStatus.COPY_BOTH:
                raise psycopg.errors.error_from_result(result)

        # the session of an earlier reader may not be gone yet
        _again_while(psycopg.errors.ObjectInUse, begin)

    def confirm(self, position: int) -> None:
        if self._follower is not None:
            self._follower.confirm(position)


def log_state(session: Session) -> str:
    """Whether a stream could follow the log, and which slots of streams are not followed now; both for a reader."""
    row = session.execute(_STATE).fetchone()
    assert row is not None, "one row was asked for"
    level, replicates, left = row
    if level != "logical":
        shown = f"it cannot be followed: wal_level is {level}"
    elif not replicates:
        shown = "it could be followed by a user with the attribute REPLICATION"
    else:
        shown = "it can be followed"
    kept = [f"{name} ({(size or 0) / 1e6:,.1f} MB)" for name, size in left or ()]
    more = f" and {len(kept) - _NAMED} more" if len(kept) > _NAMED else ""
    return shown + (f"; kept for streams that are not under way: {', '.join(kept[:_NAMED])}{more}" if kept else "")


def sent_columns(session: Session, table: TableName) -> Sequence[str]:
    """The columns of a table that its log has, as it is now."""
    asked = _SENT if session.info.server_version >= 120_000 else _SENT_EARLY
    return [name for (name,) in session.execute(asked, (_named(table),))]


def lsn(position: int) -> str:
    """A position as PostgreSQL writes it."""
    return f"{position >> 32:X}/{position & 0xFFFFFFFF:X}"


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _named(table: TableName) -> str:
    return ".".join(_quoted(part) for part in (table.schema, table.name) if part)


def _again_while(busy: type[psycopg.Error], action: Any) -> None:
    until = time.monotonic() + _BUSY_SECONDS
    while True:
        try:
            action()
            return
        except busy:
            if time.monotonic() > until:
                raise
        time.sleep(_WAIT_SECONDS)


def _wait_for_older(session: Session, connection: str) -> None:
    """Waits until all transactions that are under way now have ended."""
    early = session.info.server_version < _ROOTS_VERSION
    current, begun = ("txid_current_snapshot", "txid_snapshot") if early else ("pg_current_snapshot", "pg_snapshot")
    row = session.execute(f"SELECT {begun}_xmax({current}())::text::bigint".encode()).fetchone()
    until = time.monotonic() + _PREPARE_SECONDS
    while row is not None:
        oldest = session.execute(f"SELECT {begun}_xmin({current}())::text::bigint".encode()).fetchone()
        if oldest is None or oldest[0] >= row[0]:
            return
        if time.monotonic() > until:
            raise UltravectError(
                "log-busy",
                f"connection {connection}: a transaction has been open for more than {_PREPARE_SECONDS // 60} minutes; a new table can be "
                "followed when it has ended",
                hint="end it, and resume: SELECT pid, xact_start, query FROM pg_stat_activity ORDER BY xact_start",
                connection=connection,
            )
        time.sleep(_WAIT_SECONDS)


class _Visible:
    """Which transactions a snapshot sees, by the low halves of their numbers, as the protocol has them."""

    def __init__(self, text: str) -> None:
        _, last, under_way = text.split(":")
        self._xmax = int(last)
        self._open = frozenset(map(int, filter(None, under_way.split(","))))

    def sees(self, transaction: int) -> bool:
        # the whole number is the one next to those of the snapshot
        away = (transaction - self._xmax) & 0xFFFFFFFF
        whole = self._xmax + (away if away < 1 << 31 else away - (1 << 32))
        return whole < self._xmax and whole not in self._open


@dataclass
class _Followed:
    """A table that is followed, and what was read of it. ``places``: for each of its columns that of the message's, None: it has none."""

    table: LoggedTable
    rows: ChangeRows
    definition: _Definition
    places: Sequence[int | None]
    visible: _Visible | None


class _Follower:
    def __init__(
        self, session: Session, asking: Session, tables: Sequence[LoggedTable], position: int, size: WindowSize
    ) -> None:
        self._session, self._asking, self._clock = session, asking, WindowClock(size)
        self._tables = {(table.name.schema or "public", table.name.name): table for table in tables}
        self._followed: dict[int, _Followed] = {}
        self._decoder = MessageDecoder(self._begins)
        self._confirmed, self._given, self._answered = position, position, position
        self._said = time.monotonic()
        self.over = False
        """Whether no one takes events any more."""

        self._socket = select.poll()
        self._socket.register(session.pgconn.socket, select.POLLIN)

    def _begins(self, transaction: int, position: int) -> None:
        for item in self._followed.values():
            if item.visible is None:
                continue
            item.rows.skips = position < item.table.mark.until and item.visible.sees(transaction)
            if position >= item.table.mark.until:
                item.visible = None

    def confirm(self, position: int) -> None:
        # said by the thread that reads, to which the session belongs
        self._confirmed = max(self._confirmed, position)

    def _say(self, *, asks: bool = False) -> None:
        """Notifies the server of what is not needed any more."""
        self._said, self._answered = time.monotonic(), self._confirmed
        seen = max(self._confirmed, self._given)
        now = int((time.time() - _EPOCH) * 1_000_000)
        status = struct.pack("!cQQQQ?", b"r", seen, self._confirmed, self._confirmed, now, asks)
        self._session.pgconn.put_copy_data(status)
        self._session.pgconn.flush()

    def events(self) -> Iterator[LogEvent]:
        while not self.over:
            yield from self._window()

    def _window(self) -> Iterator[LogEvent]:
        decoder, clock = self._decoder, self._clock
        clock.begin()
        decoder.renew()
        asked = False

        def due(*, waits: bool) -> bool:
            return clock.is_due(decoder.rows, decoder.size, decoder.moment, waits=waits)

        while True:
            length, message = decoder.take(self._session.pgconn.get_copy_data, CHUNK_BYTES, CHUNK_ROWS)
            if length < 0:
                self._ended()
            if length == 0:
                if not decoder.inside and due(waits=True):
                    if asked or decoder.reached > self._given or clock.has_rows(decoder.rows):
                        yield from self._flush()
                        yield self._end()
                        return
                    # how far the server has come is known only when it says so
                    asked = True
                    self._say(asks=True)
                self._wait(min(clock.left, 1.0) if not asked else 1.0)
            elif message == b"k":
                if decoder.asked:
                    self._say()
                if asked and not decoder.inside:
                    yield from self._flush()
                    yield self._end()
                    return
            elif message == b"C":
                if due(waits=False):
                    yield from self._flush()
                    yield self._end()
                    return
            elif message == b"":
                clock.gave(decoder.rows, decoder.size)
                yield from self._flush()
                decoder.renew()
            else:
                yield from self._other(message)
            if self.over:
                return
            if self._answered != self._confirmed or time.monotonic() - self._said > _STATUS_SECONDS:
                self._say()

    def _wait(self, seconds: float) -> None:
        self._socket.poll(seconds * 1000)
        self._session.pgconn.consume_input()

    def _end(self) -> End:
        """Between two transactions: everything that has ended is given."""
        decoder = self._decoder
        self._given = max(self._given, decoder.end, decoder.reached if not decoder.inside else 0)
        return End(self._given, decoder.moment)

    def _ended(self) -> None:
        while (result := self._session.pgconn.get_result()) is not None:
            if result.status == ExecStatus.FATAL_ERROR:
                raise psycopg.errors.error_from_result(result)
        raise psycopg.OperationalError("the server has ended the log")

    def _flush(self) -> Iterator[LogEvent]:
        for item in self._followed.values():
            if item.rows.rows:
                yield taken_changes(item.table, item.rows, item.places, _typed)

    def _other(self, message: bytes) -> Iterator[LogEvent]:
        kind, rest = message[:1], message[1:]
        if kind == b"R":
            yield from self._define(_definition(rest))
        elif kind == b"T":
            count = struct.unpack_from("!iB", rest)[0]
            numbers = struct.unpack_from(f"!{count}I", rest, 5)
            emptied = [self._followed[number] for number in numbers if number in self._followed]
            if emptied:
                yield from self._flush()
            for item in emptied:
                if not item.rows.skips and self._decoder.position >= item.rows.after:
                    yield Emptied(item.table.name, self._decoder.position, self._decoder.committed_at)

    def _define(self, definition: _Definition) -> Iterator[LogEvent]:
        key = (definition.table.schema or "", definition.table.name)
        table = self._tables.get(key)
        if table is None:
            return
        before = self._followed.get(definition.number)
        if before is not None and before.definition == definition:
            return  # it is said again now and then
        redefined = self._compared(table, definition, before.definition if before else None)
        if redefined is not None and redefined.what not in table.accepted:
            yield from self._flush()
            if not self._decoder.changed:
                yield self._end_before()
            yield redefined
        if before is not None:
            # all tables, so that what is given belongs together
            yield from self._flush()
        names = list(definition.columns)
        rows = ChangeRows([0] * len(names))
        rows.after = table.mark.position
        visible = (
            _Visible(table.mark.snapshot) if table.mark.snapshot and before is None else before and before.visible
        )
        item = _Followed(
            table,
            rows,
            definition,
            [names.index(column.name) if column.name in names else None for column in table.columns],
            visible or None,
        )
        self._followed[definition.number] = item
        self._decoder.relations[definition.number] = rows
        if self._decoder.inside:
            self._begins(self._decoder.transaction, self._decoder.position)

    def _end_before(self) -> End:
        """The end of the last transaction, where the one under way has changed nothing yet."""
        self._given = max(self._given, self._decoder.end)
        return End(self._given, self._decoder.moment)

    def _compared(self, table: LoggedTable, now: _Definition, before: _Definition | None) -> Redefined | None:
        """How a table differs from what is known of it; None where it does not."""
        held = {column.name: column.native for column in table.columns}
        natives = dict(zip(now.columns, type_names(self._asking, list(now.columns.values())), strict=True))
        new = [name for name in now.columns if name not in held and name not in table.left_out]
        missing = [name for name in held if name not in now.columns]
        there = sent_columns(self._asking, table.name) if new or missing else ()
        earlier = before.columns if before is not None else {}
        # a column that is missing here and there now was added later, unless the table had one of its name before; a new one that is not
        # there any more was taken away before the stream was planned
        added = [name for name in new if name in there]
        gone = [name for name in missing if name in earlier or name not in there]
        gone += [name for name in new if name not in there]
        changed = {
            name: (held[name], natives[name])
            for name, kind in now.columns.items()
            if name in held and earlier.get(name, kind) != kind and natives[name] != held[name]
        }
        return redefinition(table.name, {name: natives[name] for name in added}, gone, changed)


def _definition(message: bytes) -> _Definition:
    number = struct.unpack_from("!I", message)[0]
    schema, rest = message[4:].split(b"\0", 1)
    name, rest = rest.split(b"\0", 1)
    count = struct.unpack_from("!BH", rest)[1]
    rest = rest[3:]
    columns = {}
    for _ in range(count):
        column, rest = rest[1:].split(b"\0", 1)
        columns[column.decode()] = struct.unpack_from("!Ii", rest)
        rest = rest[8:]
    return _Definition(number, TableName(schema.decode() or "pg_catalog", name.decode()), columns)


def _typed(column: LiveColumn, at: int, count: int, buffers: Sequence[Any]) -> pa.Array:
    array, kind = array_from(pa.binary(), count, buffers), column.type or _TEXT
    if kind.name != "binary":
        return stored_values(array, kind)
    # \x0102
    texts = pc.utf8_slice_codeunits(array.cast(pa.string()), 2)
    return convert(texts, kind, STORED).array
