"""Loads whose rows are matched or replaced: in a scratch database of DuckDB, which has the rows of the files that may change."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

import duckdb
import pyarrow as pa

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_session import STAGED, Counts, Verified
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.load_target import LoadTarget
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.session import errors_explained
from ultravect.core.kinds.lake.table_version import DataFile
from ultravect.core.loading.duckdb.duckdb_write import DuckdbSession
from ultravect.core.loading.refusals import key_not_unique

_FILE = "ultravect_file"
_SCANNED = "ultravect_scanned"
_PAIRS = "ultravect_pairs"


class MatchingSession(DuckdbSession):
    """See ``WriteSession``. The table of the scratch database has the rows of the files that may change, each with the number of its file."""

    def __init__(self, session: duckdb.DuckDBPyConnection, dialect: DuckdbDialect, target: LoadTarget) -> None:
        super().__init__(session, dialect, target.attempt)
        self._target, self._own, self._filled, self._paired = target, dialect, False, False
        self._digests: Mapping[int, Any] = {}
        self._conditions = False
        replaces, merges = self.plan.replaces, self.plan.merges
        self._where = replaces.where if replaces is not None else ""
        self._gone = merges is not None and merges.gone is not None
        # rows of the table change by other statements than those that bring staged ones in
        self._alters = self._gone or self.plan.removes is not None or (merges is not None and bool(merges.unflags))

    def begin(self) -> None:
        # no transaction: a constraint that refuses a row must not undo what was read before
        if self.plan.table.schema:
            self.execute(f"CREATE SCHEMA IF NOT EXISTS {self.dialect.quote(self.plan.table.schema)}")
        self._make()

    def rows(self, *, exact: bool) -> int | None:
        return self._target.rows_before

    def keep_previous(self) -> str:
        return self._target.previous

    def define(self) -> None:
        """The scratch table is as the table will be: ``begin`` has made it."""

    def _make(self) -> None:
        """The scratch table; filled at once where all of its rows count."""
        plan, target, quote = self.plan, self._target, self._own.quote
        self._session.register("ultravect_shape", target.schema.empty_table())
        # columns take what the files hold: types are those of the table's schema
        natives = self._session.execute("DESCRIBE SELECT * FROM ultravect_shape").fetchall()
        self._session.unregister("ultravect_shape")
        required = {field.name for field in target.schema if not field.nullable}
        self._conditions = bool(required)
        parts = [f"{quote(name)} {native}{' NOT NULL' if name in required else ''}" for name, native, *_ in natives]
        checks = target.version.checks if target.version is not None and plan.create is None else {}
        self._conditions = self._conditions or bool(checks)
        for name, condition in checks.items():
            parts.append(f"CONSTRAINT {quote(name)} CHECK ({condition})")
        try:
            self._session.execute(f"CREATE TABLE {self.table} ({', '.join(parts)}, {_FILE} INTEGER)")
        except duckdb.Error as error:
            raise UltravectError(
                "table-feature",
                f"{plan.table} has conditions that cannot be tried here: {str(error).splitlines()[0]}; nothing was written",
                hint="write into another table",
                table=str(plan.table),
            ) from None
        compares = plan.replaces is not None and plan.keys and plan.samples
        if plan.create is None and (self._where or self._gone or compares):
            files = target.version.files if target.version else ()
            self._fill([file for file in files if not self._where or self._may_be_replaced(file)])

    def _may_be_replaced(self, file: DataFile) -> bool:
        """Whether a file may have rows of the part that is replaced, by the bounds in the table's log."""
        schema = self._target.version.schema if self._target.version else self._target.schema
        for within in self.plan.replaces.within if self.plan.replaces is not None else ():
            if within.column not in schema.names:
                continue
            kind = schema.field(within.column).type
            if not _may_have(file, within.column, _as_bound(within.low, kind), _as_bound(within.high, kind)):
                return False
        return True

    def _fill(self, files: Sequence[DataFile]) -> None:
        """Reads files into the scratch table."""
        self._filled = True
        target, session = self._target, self._session
        assert target.version is not None
        numbers = {file.path: number for number, file in enumerate(target.version.files)}
        names = ", ".join(self._own.quote(name) for name in target.version.schema.names)
        for file in files:
            with explained(target.place.name, target.path):
                session.register(_SCANNED, target.version.batches(file))
            session.execute(
                f"INSERT INTO {self.table} ({names}, {_FILE}) SELECT {names}, {numbers[file.path]} FROM {_SCANNED}"
            )
            session.unregister(_SCANNED)
        if self._conditions or self._alters or self._where:
            self._digests = self._digested()

    def _digested(self) -> Mapping[int, Any]:
        """Of each file, what shows that one of its rows is another, or gone."""
        columns = ", ".join(self._own.quote(name) for name in self._target.schema.names)
        found = self._session.execute(
            f"SELECT {_FILE}, count(*), bit_xor(hash({columns})), sum(hash({columns})::HUGEINT) "
            f"FROM {self.table} WHERE {_FILE} IS NOT NULL GROUP BY 1"
        ).fetchall()
        return {number: rest for number, *rest in found}

    def _candidates(self) -> Sequence[DataFile]:
        """The files whose keys may be among the staged ones, by the bounds in the table's log."""
        assert self._target.version is not None
        files = self._target.version.files
        keys = [key for key in self.plan.keys if key in self._target.schema.names]
        bounds = {}
        for key in keys:
            quoted = self._own.quote(key)
            ((low, high),) = self.statements.rows(f"SELECT min({quoted}), max({quoted}) FROM {STAGED}")
            bounds[key] = (low, high)
        return [file for file in files if all(_may_have(file, key, *bounds[key]) for key in keys)]

    def settle(self) -> None:
        plan, version = self.plan, self._target.version
        matches = plan.merges is not None or plan.removes is not None
        if not matches or self._filled or plan.create is not None or version is None:
            return
        every = plan.removes is not None and plan.removes.every
        self._fill(version.files if every else self._candidates())

    def upsert(self, merge: MergeStatements, left: int, repeated: int, samples: list[RowChange]) -> Counts | None:
        """Says by one join what becomes of each row; the rows are put together when files are written."""
        if self._conditions or self._alters or not self._filled:
            return None
        differs = merge.differs if merge.others else "FALSE"
        self.execute(
            f"CREATE TEMPORARY TABLE {_PAIRS} AS SELECT s.{ROW} AS staged, t.rowid AS held, t.{_FILE} AS file, "
            f"({differs}) AS differs FROM {STAGED} s JOIN {self.table} t ON {merge.matched}"
        )
        ((pairs, staged, updated),) = self.statements.rows(
            f"SELECT count(*), count(DISTINCT staged), count(*) FILTER (differs) FROM {_PAIRS}"
        )
        if pairs != staged:
            raise key_not_unique(self.plan, next(iter(self.statements.rows(merge.ambiguous())), ()))
        if updated:
            samples += self.sample_updates(merge)
        self._paired = True
        return Counts(left - pairs, updated, pairs - updated, repeated)

    def _put_together(self, touched: Sequence[int]) -> str:
        """The rows of new files, from the pairs of ``_upsert``: new ones, changed ones, and others of files with changed ones."""
        quote, given = self._own.quote, {column.name for column in self.plan.columns}
        names = self._target.schema.names
        held = ", ".join(f"t.{quote(name)}" for name in names)
        changed = ", ".join(f"{'s' if name in given else 't'}.{quote(name)}" for name in names)
        new = ", ".join(f"s.{quote(name)}" if name in given else f"NULL AS {quote(name)}" for name in names)
        query = f"SELECT {new} FROM {STAGED} s WHERE s.{ROW} NOT IN (SELECT staged FROM {_PAIRS})"
        if touched:
            query += (
                f" UNION ALL SELECT {changed} FROM {_PAIRS} p JOIN {STAGED} s ON s.{ROW} = p.staged JOIN {self.table} t "
                f"ON t.rowid = p.held WHERE p.differs UNION ALL SELECT {held} FROM {self.table} t WHERE t.{_FILE} IN "
                f"({', '.join(map(str, touched))}) AND t.rowid NOT IN (SELECT held FROM {_PAIRS} WHERE differs)"
            )
        return query

    def remove_old(self) -> int | None:
        done = super().remove_old() if self._filled or self._where else None
        return done if self._where else None

    def seal(self, rows_before: int | None, counts: Counts) -> None:
        with errors_explained(self._target.place.name, f"bringing rows into {self.plan.table}"):
            self._write_files()

    def _write_files(self) -> None:
        """Writes the rows that are new, and those that share a file with one that changed."""
        plan, target = self.plan, self._target
        files = target.version.files if target.version is not None else ()
        if plan.create is not None:
            touched: list[int] = []
            target.removed = ()
        elif plan.replaces is not None and not self._where:
            touched, target.removed = [], files
        elif self._paired:
            found = self.statements.rows(f"SELECT DISTINCT file FROM {_PAIRS} WHERE differs ORDER BY 1")
            touched = [int(number) for (number,) in found]
            target.removed = [files[number] for number in touched]
        else:
            now = self._digested()
            touched = sorted(number for number, digest in self._digests.items() if now.get(number) != digest)
            target.removed = [files[number] for number in touched]
        names = ", ".join(self._own.quote(name) for name in target.schema.names)
        kept = f" OR {_FILE} IN ({', '.join(map(str, touched))})" if touched else ""
        query = f"SELECT {names} FROM {self.table} WHERE {_FILE} IS NULL{kept}"
        rows = self._session.sql(self._put_together(touched) if self._paired else query)
        with explained(target.place.name, target.path):
            for batch in rows.to_arrow_reader(100_000):
                target.files.write(batch.cast(target.schema) if batch.schema != target.schema else batch)
            target.close()

    def commit(self, entry: Entry) -> None:
        self._target.commit(entry, alone=True)

    def verify(self, counts: Counts) -> Verified:
        removed = self._target.rows_before if counts.removed is None else counts.removed
        return self._target.verify(self._target.growth + removed + counts.updated)


def _as_bound(text: str | None, kind: pa.DataType) -> Any:
    """A bound as the values of a column are; None where it is none that they are compared with."""
    try:
        return None if text is None else pa.scalar(text).cast(kind).as_py()
    except (pa.ArrowException, ValueError):
        return None


def _may_have(file: DataFile, key: str, low: Any, high: Any) -> bool:
    """Whether a file may have values from ``low`` to ``high``, each None where it is not bounded there."""
    least, most = file.partition.get(key, file.least.get(key)), file.partition.get(key, file.most.get(key))
    if least is None or most is None:
        return True
    try:
        if isinstance(most, dt.datetime):
            most += dt.timedelta(milliseconds=1)  # bounds are kept in milliseconds
        return bool((high is None or least <= high) and (low is None or low <= most))
    except (TypeError, OverflowError):
        return True
