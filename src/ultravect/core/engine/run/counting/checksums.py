"""Compares the rows that a load sent with those that the target gives back, column by column."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.target import Database
from ultravect.core.dialects.base import NewColumn, TableName
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import WantedColumn
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.checksum import column_sum, is_comparable
from ultravect.core.types.stored import STORED


@dataclass
class Checksums:
    """``sent`` are the sums of the rows that were sent, ``before`` those of the table before the load."""

    database: Database
    columns: Sequence[NewColumn]
    sent: Counter[str] = field(default_factory=Counter)
    before: Mapping[str, int] = field(default_factory=dict)

    @property
    def compared(self) -> Sequence[NewColumn]:
        return [column for column in self.columns if is_comparable(column.type)]

    def see(self, shaped: Shaped) -> None:
        for column in self.compared:
            self.sent[column.name] += column_sum(shaped.batch.column(column.name), column.type)

    def of_table(self, name: TableName) -> Mapping[str, int]:
        """The sums of all rows that a table holds now."""
        live = self.database.table(name)
        if live is None:
            raise UltravectError("table-missing", f"the table {name} is gone", hint="run again", table=str(name))
        reader = self._reader(live)
        wanted = [
            WantedColumn(position, _read_as(column, live), STORED) for position, column in enumerate(self.compared)
        ]
        sums: Counter[str] = Counter()
        for block in reader.blocks():
            batch = reader.read_typed(block, wanted)
            if batch is None:
                raise _other(str(live.name), [column.name for column in self.compared])
            for column, array in zip(self.compared, batch.columns, strict=True):
                sums[column.name] += column_sum(array, column.type)
        return sums

    def _reader(self, live: LiveTable) -> TableRows:
        every = TableRows(
            self.database, self.database.dialect.table(live.name), live.columns, str(live.name), live=live
        )
        return every.narrowed([every.names.index(column.name) for column in self.compared])

    def require_equal(self, name: TableName) -> Mapping[str, str]:
        """The checksum of each column's loaded values; raises where the target gives back others than were sent."""
        after = self.of_table(name)
        loaded = {
            column.name: (after[column.name] - self.before.get(column.name, 0)) % 2**64 for column in self.compared
        }
        different = [column for column, found in loaded.items() if found != self.sent[column] % 2**64]
        if different:
            raise _other(str(name), different)
        return {column: f"{found:016x}" for column, found in loaded.items()}


def _read_as(column: NewColumn, live: LiveTable) -> CanonicalType:
    """The type to read a column in: a moment that was stored without its zone, as announced, has none to be read."""
    held = live.column(column.name)
    without_zone = column.type.name == "timestamptz" and held and held.type and held.type.name == "timestamp"
    return held.type if without_zone and held and held.type else column.type


def _other(table: str, columns: Sequence[str]) -> UltravectError:
    return UltravectError(
        "checksum-differs",
        f"the rows were committed to {table}, but it gives other values back than were sent, in {', '.join(columns)}",
        hint="a trigger, a type that rounds, or others who changed rows at once can cause this; look at the table",
        table=table,
    )
