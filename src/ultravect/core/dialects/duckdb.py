"""DuckDB. Types: https://duckdb.org/docs/sql/data_types/overview"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.dialects.base import NewTable, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.dialects.statements import TAKEN, Lexical
from ultravect.core.types.canonical import CanonicalType, Fit

_DECIMAL = re.compile(r"^DECIMAL\((\d+),(\d+)\)$")
_TO_CANONICAL = {
    "BOOLEAN": CanonicalType("boolean"),
    "TINYINT": CanonicalType("smallint"),
    "SMALLINT": CanonicalType("smallint"),
    "UTINYINT": CanonicalType("smallint"),
    "INTEGER": CanonicalType("integer"),
    "USMALLINT": CanonicalType("integer"),
    "BIGINT": CanonicalType("bigint"),
    "UINTEGER": CanonicalType("bigint"),
    "UBIGINT": CanonicalType("decimal", precision=20, scale=0),
    "HUGEINT": CanonicalType("decimal"),
    "UHUGEINT": CanonicalType("decimal"),
    "FLOAT": CanonicalType("real"),
    "DOUBLE": CanonicalType("double"),
    "VARCHAR": CanonicalType("text"),
    "BLOB": CanonicalType("binary"),
    "DATE": CanonicalType("date"),
    "TIME": CanonicalType("time"),
    "TIMESTAMP": CanonicalType("timestamp"),
    "TIMESTAMP_S": CanonicalType("timestamp", precision=0),
    "TIMESTAMP_MS": CanonicalType("timestamp", precision=3),
    "TIMESTAMP_NS": CanonicalType("timestamp"),
    "TIMESTAMP WITH TIME ZONE": CanonicalType("timestamptz"),
    "UUID": CanonicalType("uuid"),
    "JSON": CanonicalType("json"),
}
_TO_NATIVE = {
    "boolean": "BOOLEAN",
    "smallint": "SMALLINT",
    "integer": "INTEGER",
    "bigint": "BIGINT",
    "real": "FLOAT",
    "double": "DOUBLE",
    "text": "VARCHAR",
    "binary": "BLOB",
    "date": "DATE",
    "time": "TIME",
    "timestamp": "TIMESTAMP",
    "timestamptz": "TIMESTAMP WITH TIME ZONE",
    "uuid": "UUID",
    "json": "JSON",
}


class DuckdbDialect(CommonDialect):
    """See ``Dialect``."""

    name = "duckdb"
    lexical = Lexical(nested_comments=True, escaped_texts=True, dollar_quotes=True)
    takes = TAKEN | {"CREATE OR REPLACE TABLE"}
    max_identifier_bytes = 1000
    max_columns = 10000
    random_value = "random()"
    length = "length"
    text_type = "VARCHAR"
    natives: Sequence[str] = (
        "BOOLEAN", "TINYINT", "SMALLINT", "INTEGER", "BIGINT", "HUGEINT", "UTINYINT", "USMALLINT", "UINTEGER", "UBIGINT",
        "UHUGEINT", "DECIMAL(18,2)", "FLOAT", "DOUBLE", "VARCHAR", "BLOB", "DATE", "TIME", "TIMESTAMP", "TIMESTAMP_S",
        "TIMESTAMP_MS", "TIMESTAMP_NS", "TIMESTAMP WITH TIME ZONE", "UUID", "JSON", "ENUM('a', 'b')", "INTEGER[]",
        "STRUCT(a INTEGER)", "MAP(VARCHAR, INTEGER)", "INTERVAL", "BIT",
    )  # fmt: skip

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        if kind and kind.name == "json" and native != "JSON":
            return f"CAST(to_json({name}) AS VARCHAR)"
        # what Arrow has no type for, or fewer digits than the database
        as_text = kind is None or native == "TIMESTAMP_NS" or (kind.name == "decimal" and kind.precision is None)
        return self.as_text(name) if as_text or native.startswith(("ENUM(", "UUID", "JSON")) else name

    def as_value(self, name: str, native: str) -> str:
        if native == "UUID":
            return self.as_text(name)
        return f"CAST({name} AS TIMESTAMP)" if self.rounds(native) else name

    def rounds(self, native: str) -> bool:
        return native == "TIMESTAMP_NS"

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        return self.comment_on(table, new)

    def typed(self, value: str, native: str) -> str:
        return f"CAST({value} AS {native})"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name == "decimal":
            if wanted.precision is None:
                return Translation("DECIMAL(38,18)", Fit.NARROWER, "at most 20 digits before the mark, 18 after it")
            return Translation(f"DECIMAL({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
        limited = wanted.name in ("text", "binary") and wanted.length is not None
        return Translation(
            _TO_NATIVE[wanted.name], Fit.WIDER if limited else Fit.EXACT, "no limit on the length" if limited else ""
        )

    def to_canonical(self, native: str) -> CanonicalType | None:
        if match := _DECIMAL.match(native):
            return CanonicalType("decimal", precision=int(match[1]), scale=int(match[2]))
        if native.endswith("[]") or native.startswith(("STRUCT(", "MAP(")):
            return CanonicalType("json")
        return CanonicalType("text") if native.startswith("ENUM(") else _TO_CANONICAL.get(native)
