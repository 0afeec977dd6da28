"""Oracle Database, as statements only: no connection speaks its wire protocol yet.

Types: https://docs.oracle.com/en/database/oracle/oracle-database/19/sqlrf/Data-Types.html
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.dialects.base import NewColumn, NewTable, TableName, Translation
from ultravect.core.dialects.common import DEFINITIONS, CommonDialect
from ultravect.core.dialects.statements import Statement
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_NATIVE = re.compile(
    r"^(?P<base>[A-Z0-9_]+)(?:\((?P<first>\d+|\*)(?: (?:CHAR|BYTE))?(?:,\s*(?P<second>-?\d+))?\))?(?P<rest>.*)$"
)
_SHORT_TEXT, _SHORT_BYTES = 1000, 2000  # characters of four bytes that VARCHAR2 holds; bytes that RAW holds
_EMPTY = "an empty value becomes NULL"
_TO_CANONICAL = {
    "BOOLEAN": "boolean",
    "BINARY_FLOAT": "real",
    "BINARY_DOUBLE": "double",
    "CLOB": "text",
    "NCLOB": "text",
    "LONG": "text",
    "XMLTYPE": "text",
    "ROWID": "text",
    "BLOB": "binary",
    "JSON": "json",
}
_TO_NATIVE = {
    "boolean": ("NUMBER(1)", "1 and 0"),
    "smallint": ("NUMBER(5)", ""),
    "integer": ("NUMBER(10)", ""),
    "bigint": ("NUMBER(19)", ""),
    "real": ("BINARY_FLOAT", ""),
    "double": ("BINARY_DOUBLE", ""),
    "date": ("DATE", "with a time of day, which is midnight"),
    "time": ("VARCHAR2(15 CHAR)", "kept as text, HH:MM:SS"),
    "uuid": ("RAW(16)", "as its 16 bytes"),
    "json": ("CLOB", "kept as text"),
}


class OracleDialect(CommonDialect):
    """See ``Dialect``."""

    name = "oracle"
    max_identifier_bytes = 128
    max_columns = 1000
    folds_case = False
    truth = ("1", "0")
    adds = "ADD"
    random_value = "DBMS_RANDOM.VALUE"
    length = "LENGTH"
    text_type = "VARCHAR2(4000)"
    refuses = frozenset({"far years"})
    natives: Sequence[str] = (
        "NUMBER(5,0)", "NUMBER(10,0)", "NUMBER(19,0)", "NUMBER(18,2)", "NUMBER", "NUMBER(*,0)", "NUMBER(10,-2)", "FLOAT(126)",
        "BINARY_FLOAT", "BINARY_DOUBLE", "BOOLEAN", "CHAR(3)", "VARCHAR2(80)", "VARCHAR2(80 CHAR)", "NCHAR(3)", "NVARCHAR2(80)",
        "CLOB", "NCLOB", "LONG", "XMLTYPE", "ROWID", "RAW(16)", "BLOB", "DATE", "TIMESTAMP(6)", "TIMESTAMP(9)",
        "TIMESTAMP(6) WITH TIME ZONE", "TIMESTAMP(6) WITH LOCAL TIME ZONE", "JSON", "INTERVAL DAY(2) TO SECOND(6)", "BFILE",
    )  # fmt: skip

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        return self.comment_on(table, new)

    def key_obstacle(self, kind: CanonicalType) -> str:
        large = self.from_canonical(kind).native in ("CLOB", "BLOB")
        return f"a key of {kind.name} needs a length, of at most {_SHORT_TEXT}" if large else ""

    def enlarge(self, column: NewColumn) -> str:
        return f"MODIFY ({self.quote(column.name)} {self.from_canonical(column.type).native})"

    def as_text(self, expression: str) -> str:
        return f"TO_CHAR({expression})"

    def too_long(self, part: str) -> str:
        if len(part.encode()) <= self.max_identifier_bytes:
            return ""
        return f"the name {part!r} is longer than the {self.max_identifier_bytes} bytes Oracle allows"

    def by_bytes(self, name: str) -> str:
        return f"{name} COLLATE BINARY"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        match wanted.name:
            case "decimal":
                if wanted.precision is None:
                    return Translation("NUMBER", Fit.NARROWER, "at most 38 digits")
                return Translation(f"NUMBER({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
            case "text":
                short = wanted.length is not None and wanted.length <= _SHORT_TEXT
                return Translation(f"VARCHAR2({wanted.length} CHAR)" if short else "CLOB", Fit.DIFFERENT, _EMPTY)
            case "binary":
                short = wanted.length is not None and wanted.length <= _SHORT_BYTES
                return Translation(f"RAW({wanted.length})" if short else "BLOB", Fit.DIFFERENT, _EMPTY)
            case "timestamp" | "timestamptz":
                digits = 6 if wanted.precision is None else wanted.precision
                zone = " WITH TIME ZONE" if wanted.name == "timestamptz" else ""
                return Translation(f"TIMESTAMP({digits}){zone}", Fit.EXACT)
        native, change = _TO_NATIVE[wanted.name]
        return Translation(native, Fit.WIDER if change else Fit.EXACT, change)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _NATIVE.match(native.upper())
        if not match:
            return None
        base, first, rest = match["base"], match["first"], match["rest"]
        number = int(first) if first and first != "*" else None
        if base in _TO_CANONICAL:
            return CanonicalType(_TO_CANONICAL[base])
        if base == "NUMBER":
            return self._number(number, match["second"], whole=first == "*")
        if base == "FLOAT":
            return CanonicalType("decimal")
        if base in ("CHAR", "VARCHAR2", "NCHAR", "NVARCHAR2"):
            return CanonicalType("text", length=number)
        if base == "RAW":
            return CanonicalType("binary", length=number)
        if base == "DATE":
            return CanonicalType("timestamp", precision=0)
        if base == "TIMESTAMP":
            # digits of seconds beyond the sixth have no place here: they must be zero
            digits = min(6 if number is None else number, 6)
            return CanonicalType("timestamptz" if "TIME ZONE" in rest else "timestamp", precision=digits)
        return None

    @staticmethod
    def _number(precision: int | None, scale_text: str | None, *, whole: bool) -> CanonicalType:
        scale = int(scale_text or 0)
        if whole:
            return CanonicalType("decimal", precision=MAX_PRECISION, scale=0)
        if precision is None:
            return CanonicalType("decimal")
        if scale < 0:
            # digits before the mark that are always zero
            return CanonicalType("decimal", precision=min(precision - scale, MAX_PRECISION), scale=0)
        if scale > precision:
            return CanonicalType("decimal", precision=min(scale, MAX_PRECISION), scale=min(scale, MAX_PRECISION))
        return CanonicalType("decimal", precision=precision, scale=scale)

    def upsert(self, target: TableName, staged: TableName, keys: Sequence[str], columns: Sequence[str]) -> str:
        """Rows of ``staged`` into ``target`` by ``keys``: new ones inserted, changed ones updated, equal ones left alone."""
        on = " AND ".join(f"t.{self.quote(key)} = s.{self.quote(key)}" for key in keys)
        others = [column for column in columns if column not in keys]
        lines = [f"MERGE INTO {self.table(target)} t", f"USING {self.table(staged)} s ON ({on})"]
        if others:
            changes = ", ".join(f"t.{self.quote(column)} = s.{self.quote(column)}" for column in others)
            # DECODE takes two NULLs for the same
            differs = " OR ".join(
                f"DECODE(t.{self.quote(other)}, s.{self.quote(other)}, 0, 1) = 1" for other in others
            )
            lines.append(f"WHEN MATCHED THEN UPDATE SET {changes} WHERE {differs}")
        names = ", ".join(map(self.quote, columns))
        values = ", ".join(f"s.{self.quote(column)}" for column in columns)
        lines.append(f"WHEN NOT MATCHED THEN INSERT ({names}) VALUES ({values})")
        return "\n".join(lines)

    def commits_itself(self, statement: Statement) -> bool:
        return statement.first in DEFINITIONS
