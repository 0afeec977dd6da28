"""SQL Server's Transact-SQL. Types: https://learn.microsoft.com/en-us/sql/t-sql/data-types/data-types-transact-sql"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence

from ultravect.core.dialects.base import NewColumn, NewTable, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.dialects.statements import TAKEN, Lexical
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_NATIVE = re.compile(r"^(?P<base>[a-z0-9_ ]+?)(?:\((?P<first>\d+|max)(?:,\s*(?P<second>\d+))?\))?$")
_MAX_CHARACTERS, _MAX_BYTES = 4000, 8000
_MAX_KEY_CHARACTERS = 450  # 900 bytes of a clustered index
_TO_CANONICAL = {
    "bit": CanonicalType("boolean"),
    "tinyint": CanonicalType("smallint"),
    "smallint": CanonicalType("smallint"),
    "int": CanonicalType("integer"),
    "bigint": CanonicalType("bigint"),
    "money": CanonicalType("decimal", precision=19, scale=4),
    "smallmoney": CanonicalType("decimal", precision=10, scale=4),
    "real": CanonicalType("real"),
    "text": CanonicalType("text"),
    "ntext": CanonicalType("text"),
    "xml": CanonicalType("text"),
    "image": CanonicalType("binary"),
    # read as numbers, which rise with every change of a row
    "timestamp": CanonicalType("bigint"),
    "rowversion": CanonicalType("bigint"),
    "date": CanonicalType("date"),
    "datetime": CanonicalType("timestamp", precision=3),
    "smalldatetime": CanonicalType("timestamp", precision=0),
    "uniqueidentifier": CanonicalType("uuid"),
    "json": CanonicalType("json"),
}
_TO_NATIVE = {
    "boolean": "bit",
    "smallint": "smallint",
    "integer": "int",
    "bigint": "bigint",
    "real": "real",
    "double": "float",
    "date": "date",
    "uuid": "uniqueidentifier",
}
_MAX_NAME = 128
# what is read as another type: the bytes of a code page as Unicode, old types as the ones that took their place
_READ_AS = {
    "text": "nvarchar(max)",
    "ntext": "nvarchar(max)",
    "xml": "nvarchar(max)",
    "json": "nvarchar(max)",
    "sql_variant": "nvarchar(max)",
    "image": "varbinary(max)",
    "tinyint": "smallint",
    "money": "decimal(19,4)",
    "smallmoney": "decimal(10,4)",
    "datetime": "datetime2(3)",
    "smalldatetime": "datetime2(0)",
    "timestamp": "bigint",
    "rowversion": "bigint",
}
_ROW_VERSIONS = frozenset(["rowversion", "timestamp"])
_AS_TEXT = {"hierarchyid": "ToString", "geography": "STAsText", "geometry": "STAsText"}
_MOMENTS = {"time": "time", "timestamp": "datetime2", "timestamptz": "datetimeoffset"}


def _parts(native: str) -> tuple[str, str | None]:
    """The name of a type, and its first parameter."""
    match = _NATIVE.match(native.lower())
    return (match["base"], match["first"]) if match else ("", None)


class SqlserverDialect(CommonDialect):
    """See ``Dialect``."""

    name = "sqlserver"
    truth = ("1", "0")
    adds = "ADD"
    max_identifier_bytes = 256  # 128 characters of two bytes
    max_columns = 1024
    random_value = "NEWID()"
    length = "LEN"
    text_type = "nvarchar(max)"
    refuses = frozenset({"not finite", "far years"})
    lexical = Lexical(nested_comments=True, brackets=True, doubled_brackets=True, runs_on=True)
    takes = TAKEN | {"UPDATE STATISTICS", "CREATE CLUSTERED INDEX", "CREATE NONCLUSTERED INDEX"}
    equal_by_bytes = False
    # sums and products of many digits are rounded, and the bytes of texts are those of UTF-16
    computes_decimals = False
    orders_texts = False
    slices_texts = False
    natives: Sequence[str] = (
        "bit", "tinyint", "smallint", "int", "bigint", "decimal(18,2)", "numeric(38,10)", "money", "smallmoney", "real",
        "float", "float(24)", "char(3)", "varchar(80)", "varchar(max)", "nchar(3)", "nvarchar(80)", "nvarchar(max)",
        "text", "ntext", "xml", "binary(16)", "varbinary(80)", "varbinary(max)", "image", "rowversion", "date", "time(7)",
        "datetime", "smalldatetime", "datetime2(3)", "datetime2(7)", "datetimeoffset(7)", "uniqueidentifier",
        "sql_variant", "geography", "hierarchyid",
    )  # fmt: skip

    def enlarge(self, column: NewColumn) -> str:
        native = self.from_canonical(column.type).native
        return f"ALTER COLUMN {self.quote(column.name)} {native}{'' if column.nullable else ' NOT NULL'}"

    def key_obstacle(self, kind: CanonicalType) -> str:
        large = self.from_canonical(kind).native.endswith("(max)")
        return f"a key of {kind.name} needs a length, of at most {_MAX_KEY_CHARACTERS}" if large else ""

    def as_value(self, name: str, native: str) -> str:
        if native == "uniqueidentifier":
            return f"LOWER(CAST({name} AS nvarchar(36)))"
        return self._as_read(name, native) if native in _ROW_VERSIONS or self.rounds(native) else name

    def rounds(self, native: str) -> bool:
        base, first = _parts(native)
        return base == "datetime" or (base in _MOMENTS.values() and first in (None, "7"))

    def newest(self, name: str, native: str) -> str:
        if native not in _ROW_VERSIONS:
            return super().newest(name, native)
        # rows of transactions that are open have higher ones, and are seen later
        return f"max(CASE WHEN {name} < MIN_ACTIVE_ROWVERSION() THEN CAST({name} AS bigint) END)"

    def compared(self, value: str, kind: CanonicalType) -> str:
        # a collation, and blanks at the end, would hide a difference
        return self.by_bytes(value) if kind.name in ("text", "json") else value

    def differs(self, left: str, right: str) -> str:
        return f"NOT EXISTS (SELECT {left} INTERSECT SELECT {right})"

    def delete_where(self, table: str, condition: str) -> str:
        return f"DELETE t FROM {table} AS t WHERE {condition}"

    def set_where(self, table: str, column: str, value: str, condition: str) -> str:
        return f"UPDATE t SET {self.quote(column)} = {value} FROM {table} AS t WHERE {condition}"

    def delete_matched(self, table: str, staged: str, matched: str, keys: Sequence[str]) -> str:
        return f"DELETE t FROM {table} AS t JOIN {staged} AS s ON {matched}"

    def update_matched(self, table: str, staged: str, matched: str, columns: Sequence[str], where: str) -> str:
        settings = ", ".join(f"{self.quote(column)} = s.{self.quote(column)}" for column in columns)
        return f"UPDATE t SET {settings} FROM {table} AS t JOIN {staged} AS s ON {matched} WHERE {where}"

    def first_rows(self, select: str, rows: int, *, skip: int = 0) -> str:
        if skip:
            return f"{select} OFFSET {skip} ROWS FETCH NEXT {rows} ROWS ONLY"
        return f"SELECT TOP ({rows}) {select.removeprefix('SELECT ')}"

    def copied_table(self, table: str, select: str, *, temporary: bool = False) -> str:
        return f"SELECT * INTO {table} FROM ({select}) q"

    def among(self, columns: Mapping[str, str], rows: Sequence[Sequence[str]]) -> str:
        if len(columns) == 1:
            return super().among(columns, rows)
        names = [self.quote(name) for name in columns]
        same = (" AND ".join(f"{name} = {value}" for name, value in zip(names, row, strict=True)) for row in rows)
        return f"({' OR '.join(f'({condition})' for condition in same)})"

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        base, first = _parts(native)
        if base in _AS_TEXT:
            return f"{name}.{_AS_TEXT[base]}()"
        if base in ("char", "varchar"):
            short = first is not None and first != "max" and int(first) <= _MAX_CHARACTERS
            return f"CAST({name} AS nvarchar({first if short else 'max'}))"
        if base in _READ_AS or self.rounds(native):
            return self._as_read(name, native)
        return name if kind else self.as_text(name)

    def _as_read(self, name: str, native: str) -> str:
        base, _ = _parts(native)
        return f"CAST({name} AS {_READ_AS.get(base) or f'{base}(6)'})"

    def like(self, text: str, pattern: str) -> str:
        # brackets are patterns too, so they are escaped
        escape = next(mark for mark in "!|~^" if mark not in pattern)
        plain = pattern.replace("[", f"{escape}[")
        return f"{text} COLLATE Latin1_General_100_BIN2 LIKE {self.literal(plain)} ESCAPE '{escape}'"

    def moment(self, value: dt.datetime) -> str:
        written = value.strftime("%Y-%m-%d %H:%M:%S.%f").rjust(26, "0")
        return (
            f"CAST('{written}+00:00' AS datetimeoffset(6))" if value.tzinfo else f"CAST('{written}' AS datetime2(6))"
        )

    def standard(self, condition: str) -> str:
        # names in brackets are the names in quotes of the standard
        if "'" in condition or '"' in condition:
            return condition
        return re.sub(r"\[((?:[^\]]|\]\])*)\]", lambda found: '"' + found[1].replace("]]", "]") + '"', condition)

    def too_long(self, part: str) -> str:
        if len(part.encode("utf-16-le", "surrogatepass")) <= 2 * _MAX_NAME:
            return ""
        return f"the name {part!r} is longer than the {_MAX_NAME} UTF-16 units SQL Server allows"

    def parse_table(self, text: str) -> TableName:
        if '"' not in text and "]]" not in text:
            text = text.replace("[", '"').replace("]", '"')
        return super().parse_table(text)

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        place = f"N'SCHEMA', {self.literal(table.schema or 'dbo')}, N'TABLE', {self.literal(table.name)}"
        shown = [
            (new.comment, ""),
            *((item.comment, f", N'COLUMN', {self.literal(item.name)}") for item in new.columns),
        ]
        return [
            f"EXEC sys.sp_addextendedproperty N'MS_Description', {self.literal(comment)}, {place}{column}"
            for comment, column in shown
            if comment
        ]

    def quote(self, identifier: str) -> str:
        return "[" + identifier.replace("]", "]]") + "]"

    def literal(self, text: str) -> str:
        return "N'" + text.replace("'", "''") + "'"

    def by_bytes(self, name: str) -> str:
        return f"CAST(CAST({name} AS nvarchar(max)) AS varbinary(max))"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        match wanted.name:
            case "decimal":
                if wanted.precision is None:
                    return Translation(
                        "decimal(38,18)", Fit.NARROWER, "at most 20 digits before the mark, 18 after it"
                    )
                return Translation(f"decimal({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
            case "text":
                if wanted.length is None:
                    return Translation("nvarchar(max)", Fit.EXACT)
                # lengths count UTF-16 units, of which an emoji has two
                room = wanted.length * 2
                native = f"nvarchar({room})" if room <= _MAX_CHARACTERS else "nvarchar(max)"
                return Translation(native, Fit.WIDER, "room for characters of two UTF-16 units")
            case "binary":
                fits = wanted.length is not None and wanted.length <= _MAX_BYTES
                native = f"varbinary({wanted.length})" if fits else "varbinary(max)"
                return Translation(native, Fit.EXACT if fits or wanted.length is None else Fit.WIDER, "")
            case "json":
                return Translation("nvarchar(max)", Fit.WIDER, "kept as text")
            case "time" | "timestamp" | "timestamptz":
                digits = 6 if wanted.precision is None else wanted.precision
                return Translation(f"{_MOMENTS[wanted.name]}({digits})", Fit.EXACT)
        return Translation(_TO_NATIVE[wanted.name], Fit.EXACT)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _NATIVE.match(native.lower())
        if not match:
            return None
        base, first = match["base"], match["first"]
        number = int(first) if first and first != "max" else None
        if base in _TO_CANONICAL:
            return _TO_CANONICAL[base]
        if base in ("decimal", "numeric"):
            return CanonicalType(
                "decimal", precision=min(number or 18, MAX_PRECISION), scale=int(match["second"] or 0)
            )
        if base == "float":
            return CanonicalType("real" if (number or 53) <= 24 else "double")
        if base in ("char", "varchar", "nchar", "nvarchar"):
            return CanonicalType("text", length=number)
        if base in ("binary", "varbinary"):
            return CanonicalType("binary", length=number)
        kinds = {native: kind for kind, native in _MOMENTS.items()}
        if base in kinds:
            # the seventh digit of seconds has no place here: it must be zero
            return CanonicalType(kinds[base], precision=min(7 if number is None else number, 6))
        return None
