"""Reads the rows of a table, a view or a query: see ``layouts.base.Reader``."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable
from ultravect.core.contracts.source import Source
from ultravect.core.contracts.target import Target
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.statements import statements
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import LOG_FACTS
from ultravect.core.expressions.pushdown import ColumnValue
from ultravect.core.layouts.base import Block, ParsedColumns, Rows, WantedColumn, require_columns, unique_names
from ultravect.core.layouts.parts import Part
from ultravect.core.layouts.table import TableBlock
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.source import JobSource
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.arrow import convert_typed, plain_array
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import STORED
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.types.written import plain_text

_TEXT = CanonicalType("text")
# of which a text in SQL finds the value again, in every database
_FOUND_BY = frozenset(["smallint", "integer", "bigint", "decimal", "text", "uuid", "date"])


def comparable(dialect: Dialect, columns: Sequence[LiveColumn]) -> Callable[[int], ColumnValue | None]:
    """The values of columns in SQL, by their positions; None of those whose type has no canonical one."""

    def named(position: int) -> ColumnValue | None:
        column = columns[position]
        if column.type is None:
            return None
        name = dialect.quote(column.name)
        return ColumnValue(dialect.as_value(name, column.native), name)

    return named


@dataclass
class TableRows:
    """See ``Reader``. ``origin`` is the FROM clause; ``condition`` what the database itself filters by, "" for nothing.

    ``live`` is the table or view, None for a query.
    """

    database: Source
    origin: str
    columns: Sequence[LiveColumn]
    label: str
    findings: list[Finding] = field(default_factory=list)
    condition: str = ""
    live: LiveTable | None = None
    size: int = 0
    snapshot: str = ""
    """The one that is read, see ``Source.snapshot``."""
    is_asked: bool = True
    """Whether the rows come from a question, which can filter them; those of a log come as they are."""
    logged: Mapping[str, Any] = field(default_factory=dict)
    """What is said of each row, of those of a log's snapshot: see ``expressions.bind.LOG_FACTS``."""
    typed_values: bool = True
    date_pattern: str | None = STORED.date_pattern
    formats: TextFormats = STORED

    def __post_init__(self) -> None:
        self.names, renamed = unique_names([column.name for column in self.columns], "from")
        self.findings += renamed
        self.given: Sequence[CanonicalType | None] = [column.type or _TEXT for column in self.columns]
        for column in self.columns:
            if column.type is None:
                shown = f"is of type {column.native}" if column.native else "has no declared type, and holds several"
                what = f"column {column.name!r} of {self.label} {shown}, which is copied as its text"
                self.findings.append(Finding("warning", "type-as-text", what, "columns"))

    @property
    def keys(self) -> Sequence[str]:
        """The primary key of the table, where all of it is read."""
        every = [column.name for column in self.live.columns if column.key] if self.live else []
        kinds = {column.name: column.type.name for column in self.columns if column.type}
        return every if all(kinds.get(item) in _FOUND_BY for item in every) else []

    def keys_of(self, block: Block, places: npt.NDArray[np.int64]) -> pa.Table:
        assert isinstance(block, TableBlock)
        rows = block.values.select(list(self.keys)).take(pa.array(places))
        texts = [plain_text(plain_array(column)) for column in rows.columns]
        return pa.table(texts, names=rows.column_names)

    def require_keys(self, keys: Sequence[Mapping[str, str]]) -> None:
        """From now on only the rows with these keys are read."""
        dialect = self.database.dialect
        held = {column.name: column for column in self.columns if column.name in self.keys}
        rows = [[dialect.constant(key[name], column.type or _TEXT) for name, column in held.items()] for key in keys]
        among = dialect.among({name: column.native for name, column in held.items()}, rows)
        self.condition = f"({self.condition}) AND {among}" if self.condition else among

    @property
    def statement(self) -> str:
        """What the database is asked."""
        dialect = self.database.dialect
        selected = ", ".join(
            dialect.readable(dialect.quote(column.name), column.native, column.type) for column in self.columns
        )
        return f"SELECT {selected} FROM {self.origin}" + (f" WHERE {self.condition}" if self.condition else "")

    def shares_file_with(self, other: Target) -> bool:
        """Whether both are one file, which a process has to open for writing first."""
        return bool(self.database.exclusive_file) and self.database.exclusive_file == other.exclusive_file

    def narrowed(self, positions: Sequence[int]) -> TableRows:
        """The same rows with only these columns, so that no others are read."""
        return replace(self, columns=[self.columns[position] for position in positions], findings=[])

    @property
    def undivided(self) -> str:
        return (
            "" if self.live is not None and self.live.kind == "table" else f"{self.label} is no table that has parts"
        )

    def parts(self, count: int) -> Sequence[Part]:
        assert self.live is not None
        found = self.database.ranges(self.live, count)
        return [
            Part(f"part {number} of {len(found)} of {self.label}", condition=condition)
            for number, condition in enumerate(found, 1)
        ]

    def only_part(self, part: Part) -> TableRows:
        condition = f"({self.condition}) AND {part.condition}" if self.condition else part.condition
        return replace(self, condition=condition, findings=[])

    def blocks(self) -> Iterator[Block]:
        kinds = [kind or _TEXT for kind in self.given]
        for table in self.database.read(self.statement, kinds, f"reading {self.label}", self.snapshot):
            yield self.block(table, self._said(table.num_rows))

    def block(self, values: pa.Table, logged: Mapping[str, pa.Array]) -> TableBlock:
        """Rows with these columns, which were read already; ``logged``: see ``TableBlock``."""
        return TableBlock(self.label, values.nbytes, values.rename_columns(self.names), logged=logged)

    def _said(self, rows: int) -> Mapping[str, pa.Array]:
        return {
            name: pa.repeat(pa.scalar(value, CanonicalType(LOG_FACTS[name]).arrow), rows)
            for name, value in self.logged.items()
        }

    def read(self, block: Block) -> Rows:
        assert isinstance(block, TableBlock)
        return Rows(block.values, block.index_or_all)

    def read_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        found = self.read_parsed(block, wanted)
        if found is None or len(found.odd):
            return None
        return pa.RecordBatch.from_arrays(found.columns, names=[str(column.position) for column in wanted])

    def read_parsed(self, block: Block, wanted: Sequence[WantedColumn]) -> ParsedColumns | None:
        assert isinstance(block, TableBlock)
        arrays = []
        failed = np.zeros(block.values.num_rows, np.bool_)
        for column in wanted:
            values = plain_array(block.values.column(column.position))
            if pa.types.is_binary(values.type) and column.type.name != "binary":
                return None
            converted = convert_typed(values, column.type, column.formats)
            failed |= converted.failed
            arrays.append(converted.array)
        return ParsedColumns(arrays, np.flatnonzero(failed))

    def only(self, block: Block, places: npt.NDArray[np.int64]) -> Rows:
        assert isinstance(block, TableBlock)
        return Rows(block.values.take(pa.array(places)), places)

    def parses(self, column: WantedColumn) -> bool:
        return True


def _with_held_types(database: Source, live: LiveTable) -> Sequence[LiveColumn]:
    """The columns of a table; those without a declared type have that of their values."""
    loose = [column.name for column in live.columns if not column.native]
    if not loose:
        return live.columns
    quote = database.dialect.quote
    asked = f"SELECT {', '.join(map(quote, loose))} FROM {database.dialect.table(live.name)}"
    held = dict(zip(loose, database.columns_of(asked), strict=True))
    return [
        replace(column, type=held[column.name].type) if column.name in held else column for column in live.columns
    ]


def _may_not_read(live: LiveTable) -> Finding:
    what = f"the connection's user may not read {live.name}"
    return Finding("error", "privilege-missing", what, "from.table", f"have it granted: GRANT SELECT ON {live.name}")


def nearest_table(database: Source, table: TableName) -> str:
    """``did you mean 'booking'?``, when there is a table with a name like that."""
    names = [info.name for info in database.tables("", "", 2000)]
    return did_you_mean(str(table), names) or did_you_mean(table.name, [name.split(".", 1)[-1] for name in names])


def open_rows(spec: ConnectionSpec, source: JobSource) -> TableRows:
    """The table, view or query of a job, opened; UltravectError when there is none."""
    database = database_of(spec)
    if source.query is not None:
        columns = database.columns_of(source.query)
        # as it was found to be one statement that may stand inside another
        query = statements(source.query, database.dialect.lexical)[0].text
        origin = f"(\n{query}\n) {database.dialect.quote('q')}"
        rows = TableRows(database, origin, columns, "the query")
    else:
        assert source.table is not None
        try:
            name = database.dialect.parse_table(source.table)
        except ValueError as error:
            raise UltravectError("table-name-invalid", str(error), place="from.table") from None
        if source.at is not None:
            name = _as_it_was(spec, database, name, str(source.at))
        live = database.table(name)
        if live is None:
            raise UltravectError(
                "table-missing",
                f"connection {spec.name} has no table or view {name}",
                hint=nearest_table(database, name) or f"see what there is with `ultravect look {spec.name}`",
                place="from.table",
                table=str(name),
            )
        columns = _with_held_types(database, live)
        rows = TableRows(database, database.dialect.table(live.name), columns, str(live.name), live=live)
        if "SELECT" not in live.granted:
            rows.findings.append(_may_not_read(live))
    require_columns(rows.label, len(rows.names), "name the columns in from.query")
    return rows


def _as_it_was(spec: ConnectionSpec, database: Source, name: TableName, at: str) -> TableName:
    """The name of a table in one of its versions."""
    if not database.keeps_versions:
        raise UltravectError(
            "versions-not-kept",
            f"connection {spec.name} is of kind {spec.kind}, which keeps no versions of its tables",
            hint="leave out from.at",
            place="from.at",
        )
    return TableName(name.schema, f"{name.name}@{at}")
