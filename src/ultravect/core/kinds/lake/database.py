"""A lake: tables of an open format, read in versions and written by commits; it is asked in the SQL of DuckDB."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext

import pyarrow as pa

from ultravect.core.contracts.catalogue import (
    PRIVILEGES,
    Answer,
    LiveCheck,
    LiveColumn,
    LiveTable,
    Objection,
    Reference,
    Remark,
    TableInfo,
)
from ultravect.core.contracts.change_log import ChangeLog
from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.source import NewRows
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.target import NEEDS, SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements, WriteSession
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.change_log import LakeLog
from ultravect.core.kinds.lake.dialect import IcebergDialect, LakeDialect
from ultravect.core.kinds.lake.formats import format_of
from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.loads.ledger import LakeLedger
from ultravect.core.kinds.lake.loads.versions import LakeVersions
from ultravect.core.kinds.lake.loads.write import Upkeep, open_session
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.probe import lake_steps, write_steps
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.session import connected, errors_explained, session_for
from ultravect.core.kinds.lake.table_version import BETWEEN, TableVersion, no_version, split_version
from ultravect.core.loading.duckdb.duckdb_reading import answered, read_rows
from ultravect.core.loading.questions import answer_columns, require_question
from ultravect.core.types.canonical import CanonicalType

_READING = frozenset(["SELECT", "WITH", "VALUES", "FROM", "DESCRIBE", "SUMMARIZE", "EXPLAIN"])
_NO_STATEMENTS = "a lake runs no statements that write: its tables are changed by loads alone"


class LakeDatabase:
    """See ``Database``."""

    needs: Mapping[str, frozenset[str]] = NEEDS
    can_isolate = True
    locks_tables = False
    truncates = False
    stages: Stages | None = None
    together = windows = None
    exclusive_file = ""
    shares_snapshots = False
    keeps_versions = True
    partitions = True
    arranges: frozenset[str] = frozenset()
    enforces_keys = False

    def __init__(self, name: str, settings: LakeSettings, roots: Sequence[str]) -> None:
        self._name, self._settings = name, settings
        self._place = LakePlace(name, settings, roots, format_of)
        self.dialect = IcebergDialect() if settings.format == "iceberg" else LakeDialect()

    @property
    def database(self) -> LakeDatabase:
        return self

    def _version(self, table: TableName) -> TableVersion | None:
        name, at = split_version(table.name)
        path = self._place.path(TableName(table.schema, name))
        with explained(self._name, path):
            return open_version(self._place, path, at)

    def steps(self) -> Sequence[Step]:
        return lake_steps(self._place, self._settings, self.tables)

    def write_steps(self) -> Sequence[Step]:
        return write_steps(self._place, self._settings)

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        found: list[TableInfo] = []
        with explained(self._name, "the lake"):
            paths = self._place.format.tables()
        named = sorted((".".join(part for part in path.rpartition("/")[::2] if part), path) for path in paths)
        for shown, path in named:
            if search.lower() not in shown.lower() or shown <= after:
                continue
            schema, _, name = path.rpartition("/")
            rows, comment = self._described(path)
            found.append(TableInfo(shown, "table", rows, comment, TableName(schema or None, name)))
            if len(found) == limit:
                break
        return found

    def _described(self, path: str) -> tuple[int | None, str]:
        """Rows and comment for a list; a table that cannot be read is listed nevertheless."""
        try:
            with explained(self._name, path):
                version = open_version(self._place, path)
                return (version.rows, version.comment) if version else (None, "")
        except UltravectError as error:
            return None, f"cannot be read: {error.detail}"

    def table(self, name: TableName) -> LiveTable | None:
        version = self._version(name)
        if version is None:
            return None
        session = connected()
        try:
            with errors_explained(self._name, f"reading the columns of {name}"), explained(self._name, version.path):
                session.register("shape", version.schema.empty_table())
                natives = session.execute("DESCRIBE SELECT * FROM shape").fetchall()
                fields = {field.name: field for field in version.schema}
                columns = [
                    LiveColumn(
                        column,
                        native,
                        native.lower(),
                        self.dialect.to_canonical(native),
                        fields[column].nullable,
                        False,
                        comment=(fields[column].metadata or {}).get(b"comment", b"").decode("utf-8", "replace"),
                    )
                    for column, native, *_ in natives
                ]
                checks = [LiveCheck(check, condition) for check, condition in version.checks.items()]
                rows = version.rows
        finally:
            session.close()
        # files know the least and the highest value of their columns: rows are found without an index
        indexed = frozenset(fields)
        granted = frozenset(["SELECT"]) if self._write_obstacle() or split_version(name.name)[1] else PRIVILEGES
        return LiveTable(name, "table", columns, granted, rows, version.comment, (), (), checks, indexed)

    def new_rows(self, table: TableName, since: str) -> NewRows:
        version = self._version(table)
        assert version is not None, "it was found a moment ago"
        newest = str(version.version)
        name, _ = split_version(table.name)
        if not since:
            return NewRows(TableName(table.schema, f"{name}@{newest}"), newest, version.rows, False)
        if not since.isdecimal():
            raise no_version(self._place, version.path, since, "a version is a number")
        with explained(self._name, version.path):
            found = version.since(int(since))
        return NewRows(
            TableName(table.schema, f"{name}@{since}{BETWEEN}{newest}"), newest, found.rows, found.repeated
        )

    def change_log(self, job: str, owner: str, publication: str) -> ChangeLog:
        return LakeLog(self._place, self.dialect, job, empty=self._settings.format == "iceberg")

    def references(self) -> Sequence[Reference]:
        return []

    def may_create(self, name: TableName) -> str:
        if split_version(name.name)[1]:
            return "a name with @ is that of a version"
        self._place.path(name)
        return self._write_obstacle()

    def _write_obstacle(self) -> str:
        return self._place.write_obstacle()

    def count(self, name: TableName) -> int | None:
        version = self._version(name)
        with explained(self._name, str(name)):
            return version.rows if version else None

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, _READING)
        with session_for(self._place, self.dialect, question.text, "answering the question") as session:
            return answered(session, self._name, question.text, limit, seconds)

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        question = require_question(self._name, self.dialect, query, _READING)
        with session_for(self._place, self.dialect, question.text, "reading the columns of the query") as session:
            found = session.execute(f"DESCRIBE {question.text}").fetchall()
        return answer_columns(self.dialect, ((name, native) for name, native, *_ in found))

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        with session_for(self._place, self.dialect, statement, doing, snapshot) as session:
            yield from read_rows(session, statement, types)

    def ranges(self, table: LiveTable, count: int) -> Sequence[str]:
        return []

    def snapshot(self) -> AbstractContextManager[str]:
        return nullcontext("")

    def objection(self, statement: str) -> Objection | None:
        return Objection(_NO_STATEMENTS, False)

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        raise UltravectError(
            "statements-refused", f"connection {self._name}, while {doing}: {_NO_STATEMENTS}", hint="write by a load"
        )
        yield

    def drop(self, table: TableName) -> None:
        """Nothing of ours stands in the lake but versions, which ``keep_versions`` removes."""

    def remarks(self) -> Sequence[Remark]:
        return ()

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "a commit replaces the files of the table at once"

    def ledger(self, table: TableName) -> LakeLedger:
        return LakeLedger(self._place, table)

    @property
    def versions(self) -> LakeVersions:
        return LakeVersions(self._place)

    def write(self, attempt: Attempt) -> AbstractContextManager[WriteSession]:
        hours = {"all": None, "30 days": 30 * 24, "7 days": 7 * 24}[self._settings.keep_versions]
        return open_session(self._place, self.dialect, attempt, Upkeep(self._settings.compact_after, hours))
