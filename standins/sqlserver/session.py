"""One client's session: what it sends is carried out in PostgreSQL, and answered as SQL Server would."""

from __future__ import annotations

import datetime as dt
import struct
import time
import uuid
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg import sql

from standins.sqlserver import wire
from standins.sqlserver.refusals import refusal_of
from standins.sqlserver.tables import Declared, NewTable, Refused, collated, column, constraint, create_table, split
from standins.sqlserver.tokens import SyntaxFault, Token, statements, tokens
from standins.sqlserver.translate import Translator, at_depth, quoted, read_name, read_native, text
from standins.sqlserver.types import Native, Stream, Wire, of_postgres, read_type

if TYPE_CHECKING:
    from standins.sqlserver.server import SqlserverStandIn

_AT_ONCE = 1000
_ISOLATION = {"SNAPSHOT": "REPEATABLE READ", "SERIALIZABLE": "SERIALIZABLE", "REPEATABLE": "REPEATABLE READ"}


class BreakOff(Exception):
    """The session ends without an answer."""


class Session:
    """Answers messages until the client goes."""

    def __init__(
        self, channel: wire.Channel, postgres: psycopg.Connection[Any], server: SqlserverStandIn, number: int
    ) -> None:
        self._channel, self._postgres, self._server = channel, postgres, server
        self._number = number
        self._rows = 0
        self._depth = 0
        self._isolation = "READ COMMITTED"
        self._identity: str = ""
        self._compiles_only = False
        self._values: dict[str, str] = {}
        self._bulk: tuple[str, list[Declared], frozenset[str]] | None = None
        postgres.execute("SET search_path TO dbo, sys, tsql, public")

    # ---- messages

    def serve(self) -> None:
        while True:
            kind, data = self._channel.message()
            self._channel_answer: list[bytes] = []
            if kind == wire.ATTENTION:
                self._channel.send(wire.done(wire.ATTENTION_DONE))
                continue
            try:
                self._handle(kind, data)
            except (Refused, SyntaxFault, psycopg.Error) as error:
                if self._postgres.broken:
                    raise BreakOff from None  # another session has killed this one
                self._refuse(error)
            except (ValueError, IndexError, StopIteration, ArithmeticError) as error:
                # what this stand-in does not understand is its own fault, and no reason to end the session
                self._refuse(Refused(50000, f"This stand-in failed: {type(error).__name__}: {error}"))
            self._flush(last=True)

    def _handle(self, kind: int, data: bytes) -> None:
        match kind:
            case wire.QUERY:
                stream = Stream(data)
                wire.skip_headers(stream)
                self._values = {}
                self._batch(stream.data[stream.at :].decode("utf-16-le", "surrogatepass"))
            case wire.RPC:
                self._call(wire.read_call(data))
            case wire.BULK:
                self._take_bulk(data)
            case wire.TRANSACTION:
                self._transaction(data)

    def _put(self, data: bytes) -> None:
        self._channel_answer.append(data)

    def _flush(self, *, last: bool = False) -> None:
        data = b"".join(self._channel_answer)
        self._channel_answer = []
        if not last:
            # whole packets only, so that the rest can follow
            room = self._channel.packet_size - 8
            cut = len(data) - len(data) % room
            self._channel_answer = [data[cut:]]
            data = data[:cut]
            if not data:
                return
        self._channel.send(data, last=last)

    def _refuse(self, error: Exception) -> None:
        number, shown, severity = refusal_of(error, self._postgres)
        if number in (1205, 3960) or self._postgres.info.transaction_status == psycopg.pq.TransactionStatus.INERROR:
            self._end_transaction("ROLLBACK")
        self._put(wire.message(number, shown, severity=severity))
        self._put(wire.done(wire.ERROR))

    # ---- transactions

    def _transaction(self, data: bytes) -> None:
        stream = Stream(data)
        wire.skip_headers(stream)
        request = stream.number("H")
        if request == 5:
            self._begin()
        elif request in (7, 8):
            self._end_transaction("COMMIT" if request == 7 else "ROLLBACK")
            if stream.number("B"):
                self._begin()
        self._put(wire.done())

    def _begin(self) -> None:
        self._depth += 1
        if self._depth == 1:
            self._postgres.execute(f"BEGIN ISOLATION LEVEL {self._isolation}".encode())
            self._put(wire.changed_bytes(8, struct.pack("<Q", self._number)))

    def _end_transaction(self, how: str) -> None:
        if self._depth == 0 and self._postgres.info.transaction_status == psycopg.pq.TransactionStatus.IDLE:
            return
        if how == "COMMIT" and self._depth > 1:
            self._depth -= 1
            return
        self._depth = 0
        self._postgres.execute(how.encode())
        self._put(wire.changed_bytes(9 if how == "COMMIT" else 10, b"", struct.pack("<Q", self._number)))

    # ---- batches

    def _batch(self, written: str) -> None:
        found = list(statements(tokens(written)))
        for place, statement in enumerate(found):
            more = wire.MORE if place < len(found) - 1 else 0
            self._fault(statement)
            answer = self._statement(statement)
            if answer is None:
                self._put(wire.done(more))
            else:
                self._put(wire.done(more | wire.COUNT, answer))
        if not found:
            self._put(wire.done())

    def _fault(self, statement: Sequence[Token]) -> None:
        fault = self._server.fault_for(statement[0].text)
        if fault is None:
            return
        if fault.what == "slow":
            time.sleep(fault.seconds)
        elif fault.what == "break off":
            raise BreakOff
        elif fault.what == "deadlock":
            self._end_transaction("ROLLBACK")
            raise Refused(
                1205,
                f"Transaction (Process ID {self._number}) was deadlocked on lock resources with another process and has been chosen as the "
                "deadlock victim. Rerun the transaction.",
            )
        elif fault.what == "log full":
            self._end_transaction("ROLLBACK")
            raise Refused(9002, f"The transaction log for database '{self._database}' is full due to 'LOG_BACKUP'.")

    @property
    def _database(self) -> str:
        return self._postgres.info.dbname

    def _statement(self, found: Sequence[Token]) -> int | None:
        """Carries one statement out; how many rows it changed or gave."""
        translator = Translator(self._known())
        match found[0].text:
            case "SET":
                return self._set(found)
            case "BEGIN" if len(found) > 1 and found[1].is_word("TRAN", "TRANSACTION"):
                return self._begin()
            case "COMMIT":
                return self._end_transaction("COMMIT")
            case "ROLLBACK" if len(found) > 2:
                self._execute(f"ROLLBACK TO SAVEPOINT {read_name(found, 2)[0]}")
                return None
            case "ROLLBACK":
                return self._end_transaction("ROLLBACK")
            case "SAVE":
                self._execute(f"SAVEPOINT {read_name(found, 2)[0]}")
                return None
            case "USE":
                if read_name(found, 1)[0].strip('"').lower() != self._database.lower():
                    raise Refused(
                        911,
                        f"Database '{found[1].written}' does not exist. Make sure that the name is entered correctly.",
                    )
                return None
            case "KILL":
                if int(found[1].text) == self._number:
                    raise Refused(6104, "Cannot use KILL to kill your own process.")
                if not self._postgres.execute("SELECT pg_terminate_backend(%s)", (int(found[1].text),)).fetchall()[0][
                    0
                ]:
                    raise Refused(6106, f"Process ID {found[1].text} is not an active process ID.")
                return None
            case "WAITFOR":
                hours, minutes, seconds = found[2].text.split(":")
                time.sleep(int(hours) * 3600 + int(minutes) * 60 + float(seconds))
                return None
            case "EXEC" | "EXECUTE":
                return self._procedure(found)
            case "INSERT" if found[1].is_word("BULK"):
                return self._begin_bulk(found)
            case "INSERT":
                self._require_identity(found)
            case "CREATE" if found[1].is_word("TABLE"):
                return self._create(create_table(found, translator))
            case "CREATE":
                return self._create_other(found, translator)
            case "ALTER" if found[1].is_word("DATABASE"):
                return self._set_database(found)
            case "ALTER" if found[1].is_word("TABLE"):
                return self._alter(found, translator)
            case "DROP" if found[1].is_word("TABLE"):
                self._require_no_history(read_name(found, 2 + 2 * found[2].is_word("IF"))[0])
                self._execute(translator.expression(found))
                return None
            case "DROP" | "TRUNCATE" | "GRANT" | "REVOKE" | "ALTER" | "DENY":
                self._execute(translator.expression(found))
                return None
        return self._run(translator, found)

    def _require_no_history(self, table: str) -> None:
        query = "SELECT 1 FROM tsql.periods WHERE to_regclass(%s)::oid IN (relation, history)"
        if self._postgres.execute(query, (table,)).fetchone():
            raise Refused(
                13552,
                f"Drop table operation failed on table {table} because it is not a supported operation on system-versioned temporal tables.",
            )

    def _known(self) -> Mapping[str, str]:
        return {
            "@@TRANCOUNT": str(self._depth),
            "@@SPID": str(self._number),
            "@@ROWCOUNT": str(self._rows),
            "@@SERVERNAME": text("STANDIN"),
            "@@VERSION": text("Stand-in for SQL Server 15.0, of Ultravect"),
            **self._values,
        }

    def _execute(self, statement: str) -> psycopg.Cursor[Any]:
        return self._postgres.execute(statement.encode("utf-8", "surrogatepass"))

    def _guarded(self, statement: str) -> psycopg.Cursor[Any]:
        """Runs a statement that, where it fails, leaves its transaction as it was."""
        if self._postgres.info.transaction_status == psycopg.pq.TransactionStatus.IDLE:
            return self._execute(statement)
        self._execute('SAVEPOINT "tsql statement"')
        try:
            cursor = self._execute(statement)
        except psycopg.Error as error:
            if refusal_of(error, self._postgres)[0] not in (1205, 3960):
                self._execute('ROLLBACK TO SAVEPOINT "tsql statement"')
            raise
        self._execute('RELEASE SAVEPOINT "tsql statement"')
        return cursor

    def _run(self, translator: Translator, found: Sequence[Token]) -> int | None:
        statement = translator.statement(self._as_it_was(found))
        if self._compiles_only:
            self._guarded(f"PREPARE tsql_tried AS {statement}")
            self._execute("DEALLOCATE tsql_tried")
            return None
        for table in translator.locks:
            self._guarded(f"LOCK TABLE {table} IN ACCESS EXCLUSIVE MODE")
        reads = found[0].is_word("SELECT", "WITH") or found[0].is_mark("(")
        if reads and not statement.startswith("CREATE"):
            return self._select(statement)
        cursor = self._guarded(statement)
        self._rows = max(cursor.rowcount, 0)
        return self._rows

    # ---- answers

    def _select(self, statement: str) -> int:
        inside = self._postgres.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        name = "tsql_answer"
        if not inside:
            self._execute("BEGIN")
        try:
            self._guarded(f"DECLARE {name} NO SCROLL CURSOR FOR {statement}")
            count = self._send_rows(name)
            self._execute(f"CLOSE {name}")
        except BaseException:
            if not inside:
                self._execute("ROLLBACK")
            raise
        if not inside:
            self._execute("COMMIT")
        self._rows = count
        return count

    def _send_rows(self, name: str) -> int:
        wires: list[Wire] = []
        count = 0
        while True:
            cursor = self._guarded(f"FETCH {_AT_ONCE} FROM {name}")
            if not wires:
                wires = self._describe(cursor)
            rows = cursor.fetchall()
            for row in rows:
                self._put(b"\xd1" + b"".join([item.write(value) for item, value in zip(wires, row, strict=True)]))
            count += len(rows)
            self._flush()
            if len(rows) < _AT_ONCE:
                return count

    def _describe(self, cursor: psycopg.Cursor[Any]) -> list[Wire]:
        wires = [Wire(native) for native in self._natives(cursor)]
        names = ["" if column.name == "?column?" else column.name for column in cursor.description or ()]
        self._put(wire.described(names, wires))
        return wires

    def _natives(self, cursor: psycopg.Cursor[Any]) -> list[Native]:
        result = cursor.pgresult
        assert result is not None
        found = []
        for place in range(result.nfields):
            declared = self._declared(result.ftable(place), result.ftablecol(place)) if result.ftable(place) else None
            found.append(declared or of_postgres(result.ftype(place), result.fmod(place)))
        return found

    def _declared(self, relation: int, number: int) -> Native | None:
        query = 'SELECT base, max_length, "precision", scale FROM tsql.columns WHERE relation = %s AND number = %s'
        row = self._postgres.execute(query, (relation, number)).fetchone()
        if row is None:
            return None
        base, length, precision, scale = row
        if base in ("decimal", "numeric"):
            return Native(base, precision, scale)
        if base in ("time", "datetime2", "datetimeoffset"):
            return Native(base, scale)
        if base in ("char", "varchar", "binary", "varbinary"):
            return Native(base, length)
        if base in ("nchar", "nvarchar"):
            return Native(base, length // 2 if length > 0 else -1)
        return Native(base)

    # ---- settings and procedures

    def _set(self, found: Sequence[Token]) -> None:
        if found[1].is_word("LOCK_TIMEOUT"):
            negative = found[2].is_mark("-")
            self._execute(f"SET lock_timeout = {0 if negative else int(found[2].written) or 1}")
        elif found[1].is_word("TRANSACTION"):
            level = found[4].text
            self._isolation = _ISOLATION.get(level, "READ COMMITTED")
        elif found[1].is_word("IDENTITY_INSERT"):
            name, after = read_name(found, 2)
            self._identity = name if found[after].is_word("ON") else ""
        elif found[1].is_word("NOEXEC", "PARSEONLY"):
            self._compiles_only = found[2].is_word("ON")

    def _require_identity(self, found: Sequence[Token]) -> None:
        """Refuses values for an identity column that were not announced."""
        table, after = read_name(found, 1 + found[1].is_word("INTO"))
        counted = [
            name for (name,) in self._postgres.execute(
                "SELECT a.attname FROM tsql.columns d JOIN pg_attribute a ON a.attrelid = d.relation AND a.attnum = d.number "
                "WHERE d.relation = to_regclass(%s) AND d.is_identity = 1", (table,)
            )
        ]  # fmt: skip
        opened = next((place for place in range(after, len(found)) if found[place].is_mark("(")), -1)
        if not counted or opened != after:
            return
        named = {
            item.text if item.kind == "name" else item.written for item in found[after : at_depth_end(found, after)]
        }
        if set(counted) & named and self._identity.split(".")[-1] != table.split(".")[-1]:
            raise Refused(
                544,
                f"Cannot insert explicit value for identity column in table {table} when IDENTITY_INSERT is set to OFF.",
            )

    def _procedure(self, found: Sequence[Token]) -> int | None:
        name, place = read_name(found, 1)
        procedure = name.replace('"', "").split(".")[-1].lower()
        arguments: dict[str, str] = {}
        positional: list[str] = []
        for part in split(found[place:]):
            if len(part) > 2 and part[0].kind == "variable" and part[1].is_mark("="):
                arguments[part[0].text.lower()] = part[2].text
            else:
                positional.append(part[0].text)
        return self._known_procedure(procedure, arguments, positional)

    def _known_procedure(self, procedure: str, named: Mapping[str, str], values: Sequence[str]) -> int | None:
        match procedure:
            case "sp_addextendedproperty":
                self._comment(values)
            case "sp_getapplock" | "sp_releaseapplock":
                resource = named.get("@resource") or values[0]
                shape = "pg_advisory_xact_lock" if procedure == "sp_getapplock" else "pg_advisory_unlock"
                self._guarded(f"SELECT {shape}(hashtextextended({text(resource)}, 0))")
            case "sp_rename":
                table, new = values[0], values[1]
                kept, _ = read_name(tokens(table), 0)
                self._guarded(f"ALTER TABLE {kept} RENAME TO {quoted(new)}")
            case "sp_describe_first_result_set":
                return self._describe_first(named.get("@tsql") or values[0])
            case "sp_executesql":
                self._batch(values[0])
            case "sp_reset_connection":
                self._end_transaction("ROLLBACK")
                self._execute("DISCARD TEMPORARY")
            case "standin_fault":
                self._server.add_fault(
                    values[0], values[1] if len(values) > 1 else "", float(values[2]) if len(values) > 2 else 0.0
                )
            case _:
                raise Refused(2812, f"Could not find stored procedure '{procedure}'.")
        return None

    def _comment(self, values: Sequence[str]) -> None:
        comment, places = values[1], values[2:]
        schema, table = places[1], places[3]
        where = sql.Identifier(schema, table).as_string(None)
        shown = text(comment)
        if len(places) > 5:
            self._guarded(f"COMMENT ON COLUMN {where}.{quoted(places[5])} IS {shown}")
        else:
            self._guarded(f"COMMENT ON TABLE {where} IS {shown}")

    def _describe_first(self, asked: str) -> int:
        found = tokens(asked)
        if not (found[0].is_word("SELECT", "WITH") or found[0].is_mark("(")):
            # nothing is carried out, and there are no columns to be described
            self._compiles_only = True
            try:
                if found[0].is_word("INSERT", "UPDATE", "DELETE", "MERGE") and not found[1].is_word("STATISTICS"):
                    self._run(Translator(self._known()), found)
            finally:
                self._compiles_only = False
            found = tokens("SELECT 1 AS nothing WHERE 1 = 0")
        statement = Translator(self._known()).statement(found)
        cursor = self._guarded(f"SELECT * FROM ({statement}) q LIMIT 0")
        rows = [
            (False, place, column.name, column.null_ok if column.null_ok is not None else True, str(native))
            for place, (column, native) in enumerate(
                zip(cursor.description or (), self._natives(cursor), strict=True), 1
            )
        ]
        wires = [
            Wire(Native("bit")),
            Wire(Native("int")),
            Wire(Native("nvarchar", 128)),
            Wire(Native("bit")),
            Wire(Native("nvarchar", 256)),
        ]
        self._put(wire.described(["is_hidden", "column_ordinal", "name", "is_nullable", "system_type_name"], wires))
        for row in rows:
            self._put(b"\xd1" + b"".join(item.write(value) for item, value in zip(wires, row, strict=True)))
        return len(rows)

    def _call(self, call: wire.Call) -> None:
        values = [value for _, value in call.values]
        if call.procedure == "sp_executesql":
            self._values = {name.upper(): literal(value) for name, value in call.values[2:]}
            self._batch(str(values[0]))
        else:
            self._known_procedure(call.procedure, {}, [str(value) for value in values])
        self._put(wire.return_status())
        self._put(wire.done(kind=0xFE))

    # ---- definitions

    def _create(self, made: NewTable) -> None:
        temporary = made.name.startswith('"#')
        schema = "" if temporary or "." in made.name else '"dbo".'
        name = schema + made.name
        if not temporary and self._clashes(name):
            raise Refused(2714, f"There is already an object named '{made.name}' in the database.")
        plain = [item for item in made.columns if not item.computed]
        lines = [self._line(item) for item in plain] + made.constraints
        kept = "TEMPORARY TABLE" if temporary else "TABLE"
        self._guarded(f"CREATE {kept} {name} ({', '.join(lines)})")
        for item in made.columns:
            if item.computed:
                self._add_computed(name, item)
        for item in made.columns:
            self._remember(name, item)
        if made.history is not None:
            self._keep_history(name, made)

    def _keep_history(self, name: str, made: NewTable) -> None:
        periods = {item.period: item.name for item in made.columns if item.period}
        ((number,),) = self._execute(f"SELECT {text(name)}::regclass::oid").fetchall()
        history = made.history or f'"dbo"."MSSQL_TemporalHistoryFor_{number}"'
        starts, ends = text(periods["START"]), text(periods["END"])
        self._execute(
            f"CREATE TABLE {history} (LIKE {name}); "
            f"INSERT INTO tsql.periods VALUES ({number}, {text(history)}::regclass, {starts}, {ends}); "
            "INSERT INTO tsql.columns SELECT a.attrelid, d.number, base, max_length, precision, scale, collation_name, 0, 0 FROM tsql.columns d "
            f"JOIN pg_attribute a ON a.attrelid = {text(history)}::regclass AND a.attnum = d.number WHERE d.relation = {number}; "
            f"CREATE TRIGGER tsql_period BEFORE INSERT OR UPDATE ON {name} FOR EACH ROW EXECUTE FUNCTION tsql.keep_period({starts}, {ends}); "
            f"CREATE TRIGGER tsql_history AFTER UPDATE OR DELETE ON {name} FOR EACH ROW "
            f"EXECUTE FUNCTION tsql.keep_history({ends}, {text(history)}); "
            f"CREATE TRIGGER tsql_whole BEFORE TRUNCATE ON {name} FOR EACH STATEMENT EXECUTE FUNCTION tsql.refuse_history(); "
            f"CREATE TRIGGER tsql_kept BEFORE INSERT OR UPDATE OR DELETE ON {history} FOR EACH STATEMENT EXECUTE FUNCTION tsql.refuse_history()"
        )

    def _as_it_was(self, found: Sequence[Token]) -> Sequence[Token]:
        """Has ``table FOR SYSTEM_TIME AS OF moment`` be the rows of the table and of its history that counted then."""
        for place, item in enumerate(found):
            if not (item.is_word("FOR") and place + 1 < len(found) and found[place + 1].is_word("SYSTEM_TIME")):
                continue
            start = place - 1
            while start >= 2 and found[start - 1].is_mark("."):
                start -= 2
            name = read_name(found, start)[0]
            row = self._postgres.execute(
                "SELECT n.nspname, c.relname, starts, ends FROM tsql.periods p JOIN pg_class c ON c.oid = p.history "
                "JOIN pg_namespace n ON n.oid = c.relnamespace WHERE relation = to_regclass(%s)", (name,)
            ).fetchone()  # fmt: skip
            if row is None:
                raise Refused(
                    13544,
                    f"Temporal FOR SYSTEM_TIME clause can only be used with system-versioned tables. {name} is not.",
                )
            schema, history, starts, ends = (f"[{part}]" for part in row)
            moment = found[place + 4].written
            when = f"WHERE {starts} <= {moment} AND {ends} > {moment}"
            table = " ".join(token.written for token in found[start:place])
            rows = tokens(f"(SELECT * FROM {table} {when} UNION ALL SELECT * FROM {schema}.{history} {when})")
            rest = self._as_it_was(found[place + 5 :])
            named = rest and (rest[0].is_word("AS") or rest[0].kind == "name")
            return [*found[:start], *rows, *([] if named else tokens("AS [was]")), *rest]
        return found

    def _clashes(self, name: str) -> bool:
        schema, table = (part.strip('"') for part in name.split(".", 1))
        query = "SELECT 1 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = %s AND lower(c.relname) = lower(%s)"
        return self._postgres.execute(query, (schema, table)).fetchone() is not None

    @staticmethod
    def _line(item: Declared) -> str:
        nullable = "" if item.nullable else " NOT NULL"
        return f"{quoted(item.name)} {item.native.kept_as}{collated(item)}{nullable} {item.definition}"

    def _add_computed(self, table: str, item: Declared) -> None:
        cursor = self._guarded(f"SELECT {item.computed} AS computed FROM {table} LIMIT 0")
        assert cursor.pgresult is not None
        item.native = of_postgres(cursor.pgresult.ftype(0), cursor.pgresult.fmod(0))
        self._guarded(
            f"ALTER TABLE {table} ADD COLUMN {quoted(item.name)} {item.native.kept_as} GENERATED ALWAYS AS {item.computed} STORED"
        )

    def _remember(self, table: str, item: Declared) -> None:
        length, precision, scale = item.native.catalogued
        # a column whose type changed is remembered anew
        self._postgres.execute(
            "INSERT INTO tsql.columns SELECT attrelid, attnum, %s, %s, %s, %s, %s, %s, %s FROM pg_attribute "
            "WHERE attrelid = to_regclass(%s) AND attname = %s ON CONFLICT (relation, number) DO UPDATE SET base = excluded.base, "
            'max_length = excluded.max_length, "precision" = excluded."precision", scale = excluded.scale',
            (
                item.native.base, length, precision, scale, item.collation, int(item.identity), int(bool(item.computed)), table, item.name,
            ),
        )  # fmt: skip
        if item.is_rowversion:
            self._execute(
                f"CREATE TRIGGER tsql_rowversion BEFORE INSERT OR UPDATE ON {table} FOR EACH ROW "
                f"EXECUTE FUNCTION tsql.keep_rowversion({text(item.name)})"
            )
            self._postgres.execute(
                "UPDATE tsql.columns SET is_computed = 0 WHERE relation = to_regclass(%s) AND base = 'rowversion'",
                (table,),
            )

    def _set_database(self, found: Sequence[Token]) -> None:
        """What a database is set to: only its change tracking is of consequence here."""
        words = [item.text for item in found]
        if "CHANGE_TRACKING" not in words:
            return
        self._execute("DELETE FROM tsql.tracking")
        if "OFF" in words and "ON" not in words:
            return
        place = words.index("CHANGE_RETENTION") if "CHANGE_RETENTION" in words else -1
        period, units = (int(words[place + 2]), words[place + 3]) if place >= 0 else (2, "DAYS")
        self._execute(f"INSERT INTO tsql.tracking VALUES ({period}, {text(units)})")

    def _alter(self, found: Sequence[Token], translator: Translator) -> None:
        name, place = read_name(found, 2)
        if found[place].is_word("ADD"):
            for part in split(found[place + 1 :]):
                if part[0].is_word("CONSTRAINT", "PRIMARY", "UNIQUE", "FOREIGN", "CHECK"):
                    self._guarded(f"ALTER TABLE {name} ADD {constraint(part, translator)}")
                    continue
                item = column(part, translator)
                if item.computed:
                    self._add_computed(name, item)
                else:
                    self._guarded(f"ALTER TABLE {name} ADD COLUMN {self._line(item)}")
                self._remember(name, item)
            return
        if found[place].is_word("ENABLE", "DISABLE") and found[place + 1].is_word("CHANGE_TRACKING"):
            self._execute(f"SELECT tsql.{found[place].text.lower()}_tracking({text(name)}::regclass)")
            return
        if found[place].is_word("SET"):
            self._execute(
                f"DELETE FROM tsql.periods WHERE relation = {text(name)}::regclass; DROP TRIGGER tsql_period ON {name}; "
                f"DROP TRIGGER tsql_history ON {name}; DROP TRIGGER tsql_whole ON {name}"
            )
            return
        if found[place].is_word("ALTER"):
            item = column(found[place + 2 :], translator)
            target = f"ALTER TABLE {name} ALTER COLUMN {quoted(item.name)}"
            self._guarded(f"{target} TYPE {item.native.kept_as}{collated(item)}")
            self._guarded(f"{target} {'DROP' if item.nullable else 'SET'} NOT NULL")
            self._remember(name, item)
            return
        self._guarded(f"ALTER TABLE {name} {translator.expression(found[place:])}")

    def _create_other(self, found: Sequence[Token], translator: Translator) -> None:
        if (place := at_depth(found, "INDEX")) > 0:
            unique = any(item.is_word("UNIQUE") for item in found[:place])
            kept = [item for item in found[place:] if not item.is_word("CLUSTERED", "NONCLUSTERED")]
            apart = " NULLS NOT DISTINCT" if unique else ""
            self._guarded(f"CREATE {'UNIQUE ' if unique else ''}{translator.expression(kept)}{apart}")
            return
        if found[1].is_word("VIEW"):
            start = at_depth(found, "AS")
            self._guarded(f"CREATE VIEW {read_name(found, 2)[0]} AS {translator.query(found[start + 1 :])}")
            return
        self._guarded(translator.expression(found))

    # ---- bulk loads

    def _begin_bulk(self, found: Sequence[Token]) -> None:
        """INSERT BULK table (column type, …) WITH (options): the rows are the next message."""
        table, place = read_name(found, 2)
        end = place
        depth = 0
        while end < len(found):
            depth += found[end].is_mark("(") - found[end].is_mark(")")
            end += 1
            if depth == 0:
                break
        columns = []
        for part in split(found[place + 1 : end - 1]):
            native, _ = read_native(part, 1)
            columns.append(Declared(part[0].text if part[0].kind == "name" else part[0].written, native))
        options = frozenset(item.text for item in found[end:] if item.kind == "word")
        self._bulk = (table, columns, options)

    def _take_bulk(self, data: bytes) -> None:
        if self._bulk is None:
            raise Refused(4002, "The incoming tabular data stream (TDS) protocol stream is incorrect.")
        (table, columns, _), self._bulk = self._bulk, None
        fault = self._server.fault_for("BULK")
        if fault is not None and fault.what == "break off":
            raise BreakOff
        names = sql.SQL(", ").join(sql.Identifier(item.name) for item in columns)
        copy = f"COPY {table} ({names.as_string(None)}) FROM STDIN"
        inside = self._postgres.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        if inside:
            self._execute('SAVEPOINT "tsql statement"')
        count = 0
        try:
            with self._postgres.cursor() as cursor, cursor.copy(copy.encode()) as stream:
                for row in bulk_rows(data, len(columns)):
                    stream.write_row(row)
                    count += 1
        except psycopg.Error as error:
            if inside and refusal_of(error, self._postgres)[0] != 1205:
                self._execute('ROLLBACK TO SAVEPOINT "tsql statement"')
            raise
        if inside:
            self._execute('RELEASE SAVEPOINT "tsql statement"')
        self._rows = count
        self._put(wire.done(wire.COUNT, count))


def at_depth_end(found: Sequence[Token], opened: int) -> int:
    depth = 0
    for place in range(opened, len(found)):
        depth += found[place].is_mark("(") - found[place].is_mark(")")
        if depth == 0:
            return place
    return len(found)


def bulk_rows(data: bytes, columns: int) -> Iterator[list[Any]]:
    """The rows of a bulk load's message."""
    stream = Stream(data)
    if stream.number("B") != 0x81 or stream.number("H") != columns:
        raise Refused(4863, "Bulk load data conversion error: the columns differ from those of INSERT BULK.")
    readers = []
    for _ in range(columns):
        stream.take(6)
        readers.append(read_type(stream))
        stream.short_text()
    while stream.left and (token := stream.number("B")) != 0xFD:
        if token == 0xD2:
            bits = stream.take((columns + 7) // 8)
            yield [
                None if bits[place >> 3] >> (place & 7) & 1 else read(stream) for place, read in enumerate(readers)
            ]
        elif token == 0xD1:
            yield [read(stream) for read in readers]
        else:
            raise Refused(4804, "While reading current row from host, a premature end-of-message was encountered.")


def literal(value: object) -> str:
    match value:
        case None:
            return "NULL"
        case bool() | int():
            return str(int(value))
        case Decimal() | float():
            return str(value)
        case bytes():
            return f"'\\x{value.hex()}'::bytea"
        case dt.datetime() | dt.date() | dt.time() | uuid.UUID():
            return text(str(value))
    return text(str(value))


def watch(channel: wire.Channel, postgres: psycopg.Connection[Any], server: SqlserverStandIn, number: int) -> None:
    """Serves one session to its end; what fails closes it."""
    try:
        Session(channel, postgres, server, number).serve()
    except (wire.Closed, BreakOff, EOFError, psycopg.OperationalError):
        pass
    finally:
        postgres.close()
