"""Lake tables, asked in the SQL of DuckDB. Types: https://github.com/delta-io/delta/blob/master/PROTOCOL.md#primitive-types"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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

    lacks: Mapping[str, str] = _AS_TEXT

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name in self.lacks:
            return Translation("VARCHAR", Fit.DIFFERENT, self.lacks[wanted.name])
        return super().from_canonical(wanted)

    def enlarges(self, kind: CanonicalType) -> bool:
        return False

    def create_table(self, table: TableName, new: NewTable) -> Sequence[str]:
        """As the format keeps it: keys are enforced by nothing, and comments stand in the table's description."""
        (statement, *_) = super().create_table(table, replace(new, keys=(), comment=""))
        if not new.partition_by:
            return [statement]
        return [f"{statement} PARTITIONED BY ({', '.join(map(self.quote, new.partition_by))})"]


class IcebergDialect(LakeDialect):
    """Types: https://iceberg.apache.org/spec/#primitive-types"""

    name = "iceberg"
    natives: Sequence[str] = (
        "BOOLEAN", "INTEGER", "BIGINT", "DECIMAL(18,2)", "FLOAT", "DOUBLE", "VARCHAR", "BLOB", "DATE", "TIME", "TIMESTAMP",
        "TIMESTAMP_NS", "TIMESTAMP WITH TIME ZONE", "UUID", "INTEGER[]", "STRUCT(a INTEGER)", "MAP(VARCHAR, INTEGER)",
    )  # fmt: skip
    lacks: Mapping[str, str] = {
        "uuid": "it becomes text of 36 characters, which more readers of the format understand",
        "json": "the format has no JSON: it becomes text",
    }

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name == "smallint":
            return Translation("INTEGER", Fit.WIDER, "the format has no smaller integers")
        return super().from_canonical(wanted)
