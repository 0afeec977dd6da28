"""PostgreSQL. Types: https://www.postgresql.org/docs/current/datatype.html"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.dialects.base import NewTable, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.dialects.statements import TAKEN, Lexical
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_TO_NATIVE = {
    "boolean": "boolean",
    "smallint": "smallint",
    "integer": "integer",
    "bigint": "bigint",
    "decimal": "numeric",
    "real": "real",
    "double": "double precision",
    "text": "text",
    "binary": "bytea",
    "date": "date",
    "time": "time",
    "timestamp": "timestamp",
    "timestamptz": "timestamptz",
    "uuid": "uuid",
    "json": "jsonb",
}
# format_type() writes the long names; each maps to a canonical name
_TO_CANONICAL = {
    "boolean": "boolean",
    "smallint": "smallint",
    "integer": "integer",
    "bigint": "bigint",
    "numeric": "decimal",
    "real": "real",
    "double precision": "double",
    "text": "text",
    "character varying": "text",
    "character": "text",
    "bytea": "binary",
    "date": "date",
    "time without time zone": "time",
    "timestamp without time zone": "timestamp",
    "timestamp with time zone": "timestamptz",
    "uuid": "uuid",
    "json": "json",
    "jsonb": "json",
}
_LONG = {
    "varchar": "character varying",
    "time": "time without time zone",
    "timestamp": "timestamp without time zone",
    "timestamptz": "timestamp with time zone",
}
_FORMATTED = re.compile(r"^(?P<base>[a-z]+)(?:\((?P<first>\d+)(?:,(?P<second>\d+))?\))?(?P<rest>( [a-z]+)*)$")
_LONG_CHARACTER = re.compile(r"^(?P<base>character varying|character)(?:\((?P<first>\d+)\))?$")

_NAME = r'[a-z_][a-z0-9_]*|"(?:[^"]|"")+"'
_TEXT_TYPE = r"::(?:text|character varying|bpchar)\b(?:\[\])?"
_NUMBER_TYPE = r"::(?:smallint|integer|bigint|numeric)\b"
# how the catalogue writes conditions, and what ISO SQL has for it: casts that change nothing are left out
_STANDARD = [
    (re.compile(rf"\(({_NAME})\)(?:{_TEXT_TYPE}|{_NUMBER_TYPE})"), r"\1"),
    (re.compile(rf"\((-?[0-9.]+)\){_NUMBER_TYPE}"), r"\1"),
    (re.compile(rf"'(-?[0-9.]+)'{_NUMBER_TYPE}"), r"\1"),
    (re.compile(rf"('(?:[^']|'')*'){_TEXT_TYPE}"), r"\1"),
    (re.compile(r"('(?:[^']|'')*')::date\b"), r"date \1"),
    (re.compile(r"('(?:[^']|'')*')::timestamp without time zone\b"), r"timestamp \1"),
    (re.compile(rf"= ANY \(\(?ARRAY\[([^][]*)\](?:\){_TEXT_TYPE})?\)"), r"in (\1)"),
]


class PostgresqlDialect(CommonDialect):
    """See ``Dialect``."""

    name = "postgresql"
    lexical = Lexical(nested_comments=True, escaped_texts=True, dollar_quotes=True)
    takes = TAKEN | {
        "REFRESH MATERIALIZED VIEW", "CREATE MATERIALIZED VIEW", "DROP MATERIALIZED VIEW", "ALTER MATERIALIZED VIEW", "CREATE UNLOGGED TABLE",
        "CREATE RECURSIVE VIEW", "CREATE STATISTICS", "CREATE SEQUENCE", "ALTER SEQUENCE", "DROP SEQUENCE", "REINDEX", "LOCK", "NOTIFY",
    }  # fmt: skip
    max_identifier_bytes = 63
    max_columns = 1600
    random_value = "random()"
    length = "char_length"
    refuses = frozenset({"nul"})
    folds_case = False
    reserved = frozenset({"ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"})
    natives: Sequence[str] = (
        "boolean", "smallint", "integer", "bigint", "numeric(18,2)", "numeric(60,10)", "numeric", "real",
        "double precision", "text", "character varying(80)", "character(3)", "bytea", "date",
        "time without time zone", "timestamp without time zone", "timestamp(3) without time zone",
        "timestamp with time zone", "uuid", "json", "jsonb", "money", "interval", "inet", "integer[]", "int4range",
        "time with time zone", "point", "xml", "bit(8)", "tsvector",
    )  # fmt: skip

    def as_value(self, name: str, native: str) -> str:
        # as it is read; as a UUID, it would be compared with no text
        return f"{name}::text" if native == "uuid" else name

    def by_bytes(self, name: str) -> str:
        return f'{name} COLLATE "C"'

    def literal(self, text: str) -> str:
        # E'' means the same whatever standard_conforming_strings says
        return "E'" + text.replace("\\", "\\\\").replace("'", "''") + "'"

    def standard(self, condition: str) -> str:
        for pattern, plain in _STANDARD:
            condition = pattern.sub(plain, condition)
        return condition

    def catalogued(self, native: str) -> str:
        base, mark, digits = native.partition("(")
        long = _LONG.get(base, base)
        if not mark:
            return long
        first, *rest = long.split(" ", 1)
        return f"{long}({digits}" if base == "varchar" else " ".join([f"{first}({digits}", *rest])

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        return self.comment_on(table, new)

    def too_long(self, part: str) -> str:
        if len(part.encode()) <= self.max_identifier_bytes:
            return ""
        return f"the name {part!r} is longer than the {self.max_identifier_bytes} bytes PostgreSQL allows"

    def typed(self, value: str, native: str) -> str:
        return f"CAST({value} AS {native})"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        native = _TO_NATIVE[wanted.name]
        if wanted.name == "text" and wanted.length is not None:
            return Translation(f"varchar({wanted.length})", Fit.EXACT)
        if wanted.name == "binary" and wanted.length is not None:
            return Translation(native, Fit.WIDER, "no limit on the length")
        if wanted.name == "decimal" and wanted.precision is not None:
            return Translation(f"{native}({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
        if wanted.precision is not None:
            return Translation(f"{native}({wanted.precision})", Fit.EXACT)
        return Translation(native, Fit.EXACT)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _LONG_CHARACTER.match(native) or _FORMATTED.match(native)
        if not match:
            return None
        parts = match.groupdict()
        name = _TO_CANONICAL.get(parts["base"] + (parts.get("rest") or ""))
        first = int(parts["first"]) if parts["first"] else None
        if name is None:
            return None
        if name == "decimal" and (first or 0) > MAX_PRECISION:
            return CanonicalType(name)
        if name == "text":
            return CanonicalType(name, length=first)
        if name == "decimal":
            scale = int(parts["second"] or 0) if first is not None else None
            return CanonicalType(name, precision=first, scale=scale)
        return CanonicalType(name, precision=first)
