"""Lake tables, asked in the SQL of DuckDB. Types: https://github.com/delta-io/delta/blob/master/PROTOCOL.md#primitive-types"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ultravect.core.dialects.base import NewTable, TableName, Translation
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.types.canonical import CanonicalType, Fit

# what the format has no type for
_AS_TEXT = {
    "time": "the format has no times of day: they become texts such as 07:30:00",
    "uuid": "the format has no uuid: they become texts of 36 characters",
    "json": "the format has no JSON: it becomes text",
}


class LakeDialect(DuckdbDialect):
    """See ``Dialect``."""

    name = "lake"
    max_identifier_bytes = 255
    natives: Sequence[str] = (
        "BOOLEAN", "TINYINT", "SMALLINT", "INTEGER", "BIGINT", "DECIMAL(18,2)", "FLOAT", "DOUBLE", "VARCHAR", "BLOB", "DATE",
        "TIMESTAMP", "TIMESTAMP WITH TIME ZONE", "INTEGER[]", "STRUCT(a INTEGER)", "MAP(VARCHAR, INTEGER)",
    )  # fmt: skip

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name in _AS_TEXT:
            return Translation("VARCHAR", Fit.DIFFERENT, _AS_TEXT[wanted.name])
        return super().from_canonical(wanted)

    def enlarges(self, kind: CanonicalType) -> bool:
        return False

    def create_table(self, table: TableName, new: NewTable) -> Sequence[str]:
        """As the format keeps it: keys are enforced by nothing, and comments stand in the table's description."""
        (statement, *_) = super().create_table(table, replace(new, keys=(), comment=""))
        if not new.partition_by:
            return [statement]
        return [f"{statement} PARTITIONED BY ({', '.join(map(self.quote, new.partition_by))})"]
