"""A warehouse as the place that a connection names."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
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
from ultravect.core.contracts.load import LoadOrder, ReceiptKey
from ultravect.core.contracts.mark import MarkKey
from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import NEEDS, Statements, SwapNeeds
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.kinds.warehouse import catalogue
from ultravect.core.kinds.warehouse.dialect import WarehouseDialect
from ultravect.core.kinds.warehouse.load import WarehouseLoad, work_folder
from ultravect.core.kinds.warehouse.session import Session, session
from ultravect.core.kinds.warehouse.settings import WarehouseSettings
from ultravect.core.kinds.warehouse.staged_files import StagedFiles, access, staged_files
from ultravect.core.loading.answers import answer_columns, count_rows
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.key_ranges import key_ranges
from ultravect.core.loading.marks import MarkTable, entries, set_mark
from ultravect.core.loading.questions import require_question
from ultravect.core.loading.receipts import ReceiptTable, committed_or_barred, standing
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
    arranges = True
    together = None

    def __init__(self, name: str, settings: WarehouseSettings, roots: Sequence[str]) -> None:
        self._name, self._settings = name, settings
        self.dialect: Dialect = WarehouseDialect()
        self.needs: Mapping[str, frozenset[str]] = NEEDS

    @property
    def database(self) -> WarehouseDatabase:
        return self

    def _session(self, doing: str) -> AbstractContextManager[Session]:
        return session(self._name, self._settings, doing)

    def steps(self) -> Sequence[Step]:
        settings = self._settings

        def signed_in() -> str:
            with self._session("asking for the server's version") as opened:
                ((version, user),) = opened.rows("SELECT version(), current_user")
            return f"{version}, database {settings.database}, as user {user}"

        def read() -> str:
            found = self.tables("", "", 1)
            if not found:
                return "there is no table that this user may read yet"
            with self._session("unloading a row") as opened:
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
        def stored() -> str:
            StagedFiles(self._name, self._settings).try_out()
            return f"a file was stored in bucket {self._settings.bucket} and removed again"

        def written() -> str:
            name = self.dialect.table(TableName(catalogue.USUAL_SCHEMA, f"ultravect_test_{secrets.token_hex(6)}"))
            with self._session("creating a table") as opened:
                for statement in ("BEGIN TRANSACTION", f"CREATE TABLE {name} (a integer)", "ROLLBACK"):
                    opened.execute(statement)
            return f"a table was created in {catalogue.USUAL_SCHEMA} and taken back"

        return [Step("stage", stored), Step("write", written)]

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        literal = self.dialect.literal
        asked = catalogue.LIST.format(search=literal(search), after=literal(after), limit=int(limit))
        with self._session("listing tables") as opened:
            found = opened.rows(asked)
        return [
            TableInfo(f"{schema}.{table}", catalogue.KINDS.get(kind, "table"), None, "", TableName(schema, table))
            for schema, table, kind in found
        ]

    def references(self) -> Sequence[Reference]:
        return ()  # they are declared, and keep nothing in order

    def table(self, name: TableName) -> LiveTable | None:
        literal = self.dialect.literal
        named = {"schema": literal(name.schema or catalogue.USUAL_SCHEMA), "table": literal(name.name)}
        with self._session(f"reading the columns of {name}") as opened:
            found = opened.rows(catalogue.FIND.format(**named))
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
                        key=column in keys,
                        default=shown,
                    )
                )
            live = TableName(schema, table)
            quoted = literal(self.dialect.table(live))
            wanted = sorted(PRIVILEGES)
            asked = ", ".join(f"has_table_privilege({quoted}, '{privilege}')" for privilege in wanted)
            (row,) = opened.rows(f"SELECT {asked}")
        granted = frozenset(privilege for privilege, has in zip(wanted, row, strict=True) if has)
        return LiveTable(live, catalogue.KINDS.get(kind, "table"), columns, granted)

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, _READING)
        with self._session("answering the question") as opened:
            opened.execute(f"SET statement_timeout = {int(seconds * 1000)}")
            opened.execute("BEGIN READ ONLY")
            with opened.driver.cursor() as cursor:
                cursor.execute(question.text.encode())
                rows = [list(row) for row in cursor.fetchmany(limit + 1)] if cursor.description else []
                names = [column.name for column in cursor.description or ()]
            opened.execute("ROLLBACK")
        return Answer(names, rows[:limit], len(rows) > limit, [""] * len(names))

    def objection(self, statement: str) -> Objection | None:
        with self._session("parsing a statement") as opened:
            try:
                opened.execute(f"EXPLAIN {statement}")
            except psycopg.Error as error:
                syntax = error.sqlstate == "42601"
                return Objection(error.diag.message_primary or str(error), syntax) if not syntax else None
        return None

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        question = require_question(self._name, self.dialect, query, _READING)
        name = f"ultravect_query_{secrets.token_hex(6)}"
        with self._session("reading the columns of the query") as opened:
            opened.execute("BEGIN TRANSACTION")
            opened.execute(f"CREATE TEMPORARY TABLE {name} AS SELECT * FROM (\n{question.text}\n) q LIMIT 0")
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
        with self._session(doing) as opened:
            # columns of one name would be one column of a file
            numbered = f"SELECT * FROM ({statement}) AS q ({', '.join(f'c{name}' for name in names)})"
            for part in self._unloaded(opened, numbered):
                columns = [
                    _column(column.combine_chunks(), kind) for column, kind in zip(part.columns, types, strict=True)
                ]
                yield pa.table(columns, names=names)

    def _unloaded(self, opened: Session, query: str) -> Iterator[pa.Table]:
        """The rows of a query, by way of the bucket."""
        literal, settings = self.dialect.literal, self._settings
        with staged_files(self._name, settings) as files:
            opened.execute(
                f"UNLOAD ({literal(query)}) TO {literal(files.url('part_'))} {access(settings, literal)} "
                f"REGION {literal(settings.region)} FORMAT AS PARQUET"
            )
            yield from files.batches()

    def ranges(self, table: LiveTable, count: int) -> Sequence[str]:
        return key_ranges(self, table, count)

    def snapshot(self) -> AbstractContextManager[str]:
        return nullcontext("")

    def may_create(self, name: TableName) -> str:
        schema = name.schema or catalogue.USUAL_SCHEMA
        with self._session("looking for the schema") as opened:
            found = opened.rows(catalogue.SCHEMA.format(schema=self.dialect.literal(schema)))
        if not found:
            return f"there is no schema {schema!r}"
        return "" if found[0][0] else f"user {self._settings.user!r} may not create tables in {schema!r}"

    def count(self, name: TableName) -> int | None:
        return count_rows(self, name)

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "in a warehouse the rows are deleted and inserted in one transaction"

    def _there(self, opened: Session, table: TableName) -> bool:
        literal = self.dialect.literal
        return bool(
            opened.rows(
                catalogue.FIND.format(
                    schema=literal(table.schema or catalogue.USUAL_SCHEMA), table=literal(table.name)
                )
            )
        )

    def receipt(self, table: TableName, key: ReceiptKey) -> Receipt | None:
        receipts = ReceiptTable(self.dialect, table)
        with self._session("looking for a receipt") as opened:
            rows = opened.rows(receipts.find(key)) if self._there(opened, receipts.name) else []
        return standing(rows)

    def mark(self, table: TableName, key: MarkKey) -> Mapping[str, str]:
        marks = MarkTable(self.dialect, table)
        with self._session("looking for a mark") as opened:
            return entries(opened.rows(marks.find(key))) if self._there(opened, marks.name) else {}

    def set_mark(self, table: TableName, key: MarkKey, value: str | None) -> None:
        set_mark(self, table, key, value)

    def committed(self, table: TableName, keys: Sequence[ReceiptKey]) -> Receipt | None:
        receipts = ReceiptTable(self.dialect, table)
        with self._session("asking which attempt was committed") as opened:
            if not self._there(opened, receipts.name):
                with suppress(psycopg.Error):  # another session was quicker
                    opened.execute(receipts.create())

            def written(key: ReceiptKey) -> bool:
                # keys are not enforced here: the table of receipts is locked, as a load does that commits
                opened.execute("BEGIN TRANSACTION")
                opened.execute(f"LOCK TABLE {self.dialect.table(receipts.name)}")
                taken = bool(opened.rows(receipts.find(key)))
                if not taken:
                    opened.execute(receipts.fence(key))
                opened.execute("COMMIT")
                return not taken

            return committed_or_barred(receipts, keys, written, opened.rows)

    @contextmanager
    def load(self, order: LoadOrder) -> Iterator[WarehouseLoad]:
        live = self.table(order.table)
        natives = {column.name: column.native for column in live.columns} if live else {}
        doing = f"loading {order.source} into {order.table}"
        with (
            work_folder() as folder,
            staged_files(self._name, self._settings) as files,
            self._session(doing) as opened,
        ):
            # closing the session undoes what was not committed
            yield WarehouseLoad(opened, self._name, self._settings, self.dialect, order, files, natives, Path(folder))

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        with self._session(doing) as opened:
            opened.execute("BEGIN TRANSACTION")
            if self._there(opened, table):
                opened.execute(f"LOCK TABLE {self.dialect.table(table)}")
            yield opened
            opened.execute("COMMIT")

    def drop(self, table: TableName) -> None:
        with self._session(f"dropping {table}") as opened:
            opened.execute(f"DROP TABLE IF EXISTS {self.dialect.table(table)}")


def _column(array: pa.Array, kind: CanonicalType) -> pa.Array:
    if pa.types.is_string(array.type) or pa.types.is_binary(array.type):
        return stored_values(array, kind)
    return array if array.type == kind.arrow else array.cast(kind.arrow)
