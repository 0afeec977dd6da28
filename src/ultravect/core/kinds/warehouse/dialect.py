"""The SQL of warehouses that are relatives of PostgreSQL and copy from an object store.

Keys are declared and not enforced; there are no savepoints, no collations and no IS DISTINCT FROM.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.dialects.base import NewTable, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.dialects.statements import Lexical
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_NATIVE = re.compile(r"^(?P<base>[a-z ]+?)(?:\((?P<first>\d+)(?:,\s*(?P<second>\d+))?\))?$")
_MAX_TEXT, _MAX_BINARY = 65_535, 1_024_000
_TO_CANONICAL = {
    "boolean": "boolean", "smallint": "smallint", "integer": "integer", "bigint": "bigint", "real": "real",
    "double precision": "double", "date": "date", "super": "json", "time without time zone": "time", "time": "time",
    "timestamp without time zone": "timestamp", "timestamp": "timestamp", "timestamp with time zone": "timestamptz",
    "timestamptz": "timestamptz", "text": "text", "character": "text", "character varying": "text", "varbyte": "binary",
    "bytea": "binary",
}  # fmt: skip
_TO_NATIVE = {
    "boolean": "boolean", "smallint": "smallint", "integer": "integer", "bigint": "bigint", "real": "real",
    "double": "double precision", "date": "date", "time": "time", "timestamp": "timestamp", "timestamptz": "timestamptz",
}  # fmt: skip


class WarehouseDialect(CommonDialect):
    """See ``Dialect``."""

    name = "warehouse"
    lexical = Lexical(nested_comments=True, dollar_quotes=True)
    max_identifier_bytes = 127
    max_columns = 1600
    random_value = "random()"
    length = "char_length"
    text_type = "varchar(65535)"
    refuses = frozenset({"nul", "many bytes"})
    natives: Sequence[str] = (
        "boolean", "smallint", "integer", "bigint", "numeric(18,2)", "real", "double precision", "character varying(80)",
        "character(3)", "varbyte(80)", "date", "time", "timestamp", "timestamptz", "super", "geometry", "hllsketch",
    )  # fmt: skip

    def too_long(self, part: str) -> str:
        if len(part.encode()) <= self.max_identifier_bytes:
            return ""
        return f"the name {part!r} is longer than the {self.max_identifier_bytes} bytes a warehouse allows"

    def create_table(self, table: TableName, new: NewTable) -> Sequence[str]:
        created, *rest = super().create_table(table, new)
        spread = new.distribute_by
        if spread:
            whole = spread.lower() in ("all", "even")
            created += f"\nDISTSTYLE {spread.upper()}" if whole else f"\nDISTKEY ({self.quote(spread)})"
        if new.sort_by:
            created += f"\nCOMPOUND SORTKEY ({', '.join(map(self.quote, new.sort_by))})"
        return [created, *rest]

    def encoded(self, column: str, new: NewTable) -> str:
        return f" ENCODE {new.encode[column]}" if column in new.encode else ""

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        return self.comment_on(table, new)

    def differs(self, left: str, right: str) -> str:
        return f"({left} <> {right} OR ({left} IS NULL) <> ({right} IS NULL))"

    def key_obstacle(self, kind: CanonicalType) -> str:
        return "documents cannot be a key" if kind.name == "json" else ""

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        return (
            f"json_serialize({name})"
            if kind is not None and kind.name == "json"
            else super().readable(name, native, kind)
        )

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        match wanted.name:
            case "text" if wanted.length is not None and wanted.length * 4 <= _MAX_TEXT:
                return Translation(f"varchar({wanted.length * 4})", Fit.WIDER, "lengths count bytes")
            case "text":
                return Translation(f"varchar({_MAX_TEXT})", Fit.NARROWER, f"at most {_MAX_TEXT:,} bytes")
            case "binary" if wanted.length is not None and wanted.length <= _MAX_BINARY:
                return Translation(f"varbyte({wanted.length})", Fit.EXACT)
            case "binary":
                return Translation(f"varbyte({_MAX_BINARY})", Fit.NARROWER, f"at most {_MAX_BINARY:,} bytes")
            case "decimal" if wanted.precision is None:
                return Translation("numeric(38,18)", Fit.NARROWER, "at most 20 digits before the mark, 18 after it")
            case "decimal":
                return Translation(f"numeric({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
            case "uuid":
                return Translation("varchar(36)", Fit.WIDER, "kept as text")
            case "json":
                return Translation("super", Fit.WIDER, "kept as a semi-structured value")
            case "time" | "timestamp" | "timestamptz" if wanted.precision not in (None, 6):
                return Translation(_TO_NATIVE[wanted.name], Fit.WIDER, "six digits of seconds")
        return Translation(_TO_NATIVE[wanted.name], Fit.EXACT)

    def catalogued(self, native: str) -> str:
        return native.replace("varchar", "character varying")

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _NATIVE.match(native.lower())
        if not match:
            return None
        base, first = match["base"], int(match["first"]) if match["first"] else None
        if base in ("numeric", "decimal"):
            return CanonicalType(
                "decimal", precision=min(first or 18, MAX_PRECISION), scale=int(match["second"] or 0)
            )
        name = _TO_CANONICAL.get(base)
        if name is None:
            return None
        if name in ("time", "timestamp", "timestamptz"):
            return CanonicalType(name, precision=6)
        return CanonicalType(name, length=first if name in ("text", "binary") else None)
