"""A warehouse as the place that a connection names."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from pathlib import Path

import psycopg
import pyarrow as pa

from ultravect.core.contracts.catalogue import (
    PRIVILEGES,
    Answer,
    LiveColumn,
    LiveTable,
    Objection,
    Reference,
    TableInfo,
)
from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.kinds.warehouse import catalogue
from ultravect.core.kinds.warehouse.forms import form_of
from ultravect.core.kinds.warehouse.kind import WarehouseSettings
from ultravect.core.kinds.warehouse.probe import write_steps
from ultravect.core.kinds.warehouse.session import Session, session
from ultravect.core.kinds.warehouse.staged_files import staged_files
from ultravect.core.kinds.warehouse.write import WarehouseSession, work_folder
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.questions import answer_columns, require_question
from ultravect.core.loading.refusals import doing_of
from ultravect.core.loading.sql_ledger import SqlLedger
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import stored_values
from ultravect.core.words import counted

_READING = frozenset(["SELECT", "WITH", "EXPLAIN", "SHOW", "VALUES"])


class WarehouseDatabase(UsualDatabase):
    """See ``Database``."""

    can_isolate = False
    locks_tables = True
    enforces_keys = False

    def __init__(self, name: str, settings: WarehouseSettings, roots: Sequence[str]) -> None:
        self._name, self._settings = name, settings
        self._form = form_of(settings)
        self.dialect: Dialect = self._form.dialect
        self.arranges = self._form.arranges

    @property
    def database(self) -> WarehouseDatabase:
        return self

    def session(self, doing: str) -> AbstractContextManager[Session]:
        return session(self._name, self._settings, self._form.opening, doing)

    def steps(self) -> Sequence[Step]:
        settings = self._settings

        def signed_in() -> str:
            with self.session("asking for the server's version") as opened:
                ((version, user),) = opened.rows("SELECT version(), current_user")
            return f"{version}, database {settings.database}, as user {user}"

        def read() -> str:
            found = self.tables("", "", 1)
            if not found:
                return "there is no table that this user may read yet"
            with self.session("unloading a row") as opened:
                name = self.dialect.table(found[0].table)
                rows = sum(part.num_rows for part in self._unloaded(opened, f"SELECT 1 AS a FROM {name} LIMIT 1"))
            return f"{found[0].name} was unloaded to bucket {settings.bucket}, {counted(rows, 'row')}"

        def listed() -> str:
            return f"{counted(len(self.tables('', '', 100_000)), 'table or view', 'tables and views')} can be seen"

        return [
            *network_steps(self._name, settings.host, settings.port),
            Step("sign in", signed_in),
            Step("list", listed),
            Step("read", read),
        ]

    def write_steps(self) -> Sequence[Step]:
        return write_steps(self._name, self._settings, self._form, self.session)

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        literal = self.dialect.literal
        last = str(self.dialect.parse_table(after)) if after else ""
        asked = catalogue.LIST.format(search=literal(search), after=literal(last), limit=int(limit))
        with self.session("listing tables") as opened:
            found = opened.rows(asked)
        return [
            TableInfo(self._form.shown(name), catalogue.KINDS.get(kind, "table"), None, "", name)
            for name, kind in ((TableName(schema, table), kind) for schema, table, kind in found)
        ]

    def references(self) -> Sequence[Reference]:
        return ()  # they are declared, and keep nothing in order

    def table(self, name: TableName) -> LiveTable | None:
        literal = self.dialect.literal
        named = {"schema": literal(name.schema or self._form.usual_schema), "table": literal(name.name)}
        with self.session(f"reading the columns of {name}") as opened:
            found = opened.rows(catalogue.find(self.dialect, name, self._form.usual_schema))
            if not found:
                return None
            schema, table, kind = found[0]
            keys = {str(row[0]) for row in opened.rows(catalogue.KEYS.format(**named))}
            columns = []
            for column, base, length, precision, scale, nullable, default in opened.rows(
                catalogue.COLUMNS.format(**named)
            ):
                native = catalogue.native_of(base, length, precision, scale)
                kind_of = self.dialect.to_canonical(native)
                shown = constant_default(default)
                columns.append(
                    LiveColumn(
                        column,
                        native,
                        base,
                        kind_of,
                        bool(nullable),
                        default is not None,
                        # numbered by the warehouse alone, which refuses other values
                        generated=str(default).replace('"', "").startswith("identity("),
                        key=column in keys,
                        default=shown,
                    )
                )
            live = TableName(schema, table)
            (row,) = opened.rows(self._form.privileges(self.dialect.table(live)))
        granted = frozenset(privilege for privilege, has in zip(sorted(PRIVILEGES), row, strict=True) if has)
        return LiveTable(live, catalogue.KINDS.get(kind, "table"), columns, granted)

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, _READING)
        with self.session("answering the question") as opened:
            opened.execute(self._form.limited(seconds))
            opened.execute(self._form.reading)
            with opened.driver.cursor() as cursor:
                cursor.execute(question.text.encode())
                rows = [list(row) for row in cursor.fetchmany(limit + 1)] if cursor.description else []
                names = [column.name for column in cursor.description or ()]
            opened.execute("ROLLBACK")
        return Answer(names, rows[:limit], len(rows) > limit, [""] * len(names))

    def objection(self, statement: str) -> Objection | None:
        with self.session("parsing a statement") as opened:
            try:
                opened.execute(f"EXPLAIN {statement}")
            except psycopg.Error as error:
                syntax = error.sqlstate == "42601"
                return Objection(error.diag.message_primary or str(error), syntax) if not syntax else None
        return None

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        question = require_question(self._name, self.dialect, query, _READING)
        name = f"ultravect_query_{secrets.token_hex(6)}"
        with self.session("reading the columns of the query") as opened:
            opened.execute("BEGIN TRANSACTION")
            opened.execute(
                f"CREATE TEMPORARY TABLE {self.dialect.quote(name)} AS SELECT * FROM (\n{question.text}\n) q LIMIT 0"
            )
            found = opened.rows(
                "SELECT column_name, coalesce(domain_name, data_type), character_maximum_length, numeric_precision, numeric_scale "
                f"FROM information_schema.columns WHERE table_name = '{name}' ORDER BY ordinal_position"
            )
            opened.execute("ROLLBACK")
        return answer_columns(self.dialect, ((str(row[0]), catalogue.native_of(*row[1:])) for row in found))

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        names = [str(position) for position in range(len(types))]
        with self.session(doing) as opened:
            # columns of one name would be one column of a file
            numbered = f"SELECT * FROM ({statement}) AS q ({', '.join(f'c{name}' for name in names)})"
            for part in self._unloaded(opened, numbered):
                columns = [
                    _column(column.combine_chunks(), kind) for column, kind in zip(part.columns, types, strict=True)
                ]
                yield pa.table(columns, names=names)

    def _unloaded(self, opened: Session, query: str) -> Iterator[pa.Table]:
        """The rows of a query, by way of the bucket."""
        with staged_files(self._name, self._settings) as files:
            answer = opened.rows(self._form.unload(query, files))
            yield from files.batches(self._form.unloaded(answer, files))

    def may_create(self, name: TableName) -> str:
        schema = name.schema or self._form.usual_schema
        with self.session("looking for the schema") as opened:
            found = opened.rows(self._form.schema(schema))
        if not found:
            return f"there is no schema {schema!r}"
        return "" if found[0][0] else f"user {self._settings.user!r} may not create tables in {schema!r}"

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "in a warehouse the rows are deleted and inserted in one transaction"

    def has(self, opened: Statements, table: TableName) -> bool:
        return bool(opened.rows(catalogue.find(self.dialect, table, self._form.usual_schema)))

    def ledger(self, table: TableName) -> WarehouseLedger:
        return WarehouseLedger(self, table)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[WarehouseSession]:
        live = self.table(attempt.plan.table)
        natives = {column.name: column.native for column in live.columns} if live else {}
        doing = doing_of(attempt)
        with (
            work_folder() as folder,
            staged_files(self._name, self._settings) as files,
            self.session(doing) as opened,
        ):
            # closing the session undoes what was not committed
            yield WarehouseSession(opened, self._name, self._form, attempt, files, natives, Path(folder))

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        with self.session(doing) as opened:
            opened.execute("BEGIN TRANSACTION")
            if self.has(opened, table):
                opened.execute(f"LOCK TABLE {self.dialect.table(table)}")
            yield opened
            opened.execute("COMMIT")

    def drop(self, table: TableName) -> None:
        with self.session(f"dropping {table}") as opened:
            opened.execute(f"DROP TABLE IF EXISTS {self.dialect.table(table)}")


class WarehouseLedger(SqlLedger):
    """See ``SqlLedger``. Keys are not enforced here: the tables are locked by all who write to them."""

    def __init__(self, database: WarehouseDatabase, table: TableName) -> None:
        super().__init__(database.dialect, table)
        self._database = database

    def opened(self, doing: str, *, writes: bool = False) -> AbstractContextManager[Statements]:
        return self._database.session(doing)

    def transaction(self, doing: str) -> AbstractContextManager[Statements]:
        return self._database.transaction(self.marks.name, doing)

    def has(self, statements: Statements, table: TableName) -> bool:
        return self._database.has(statements, table)

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def create_receipts(self, statements: Statements) -> None:
        with suppress(psycopg.Error):  # another session was quicker
            statements.changed(self.receipts.create())

    def bar(self, statements: Statements, key: ReceiptKey) -> bool:
        statements.changed("BEGIN TRANSACTION")
        statements.changed(f"LOCK TABLE {self.dialect.table(self.receipts.name)}")
        taken = bool(statements.rows(self.receipts.find(key)))
        if not taken:
            statements.changed(self.receipts.fence(key))
        statements.changed("COMMIT")
        return not taken


def _column(array: pa.Array, kind: CanonicalType) -> pa.Array:
    if pa.types.is_string(array.type) or pa.types.is_binary(array.type):
        return stored_values(array, kind)
    return array if array.type == kind.arrow else array.cast(kind.arrow)
