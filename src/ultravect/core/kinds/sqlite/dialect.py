"""SQLite. Types, which a column merely leans to: https://sqlite.org/datatype3.html"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.dialects.base import Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.dialects.statements import TAKEN, Lexical
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_DECLARED = re.compile(
    r"^\s*(?P<base>[a-z][a-z0-9_ ]*?)\s*(?:\(\s*(?P<first>\d+)\s*(?:,\s*(?P<second>\d+)\s*)?\))?\s*$", re.I
)
_INTEGER = re.compile(
    r"(?:(?:un)?signed )?(?:tiny|small|medium|big)? ?int(?:eger)?[0-9]*(?: (?:un)?signed)?(?: big int)?|unsigned big int"
)
_KNOWN = {
    "boolean": "boolean",
    "bool": "boolean",
    "tinyint": "smallint",
    "smallint": "smallint",
    "date": "date",
    "datetime": "timestamp",
    "timestamp": "timestamp",
    "time": "time",
    "timestamptz": "timestamptz",
    "json": "json",
    "json text": "json",
    "uuid": "uuid",
}
_TO_NATIVE = {
    "boolean": ("BOOLEAN", ""),
    "smallint": ("INTEGER", ""),
    "integer": ("INTEGER", ""),
    "bigint": ("INTEGER", ""),
    "real": ("REAL", ""),
    "double": ("REAL", ""),
    "text": ("TEXT", ""),
    "binary": ("BLOB", ""),
    "date": ("DATE", "kept as text, YYYY-MM-DD"),
    "time": ("TIME", "kept as text, HH:MM:SS"),
    "timestamp": ("TIMESTAMP", "kept as text, YYYY-MM-DD HH:MM:SS"),
    "timestamptz": ("TIMESTAMPTZ", "kept as text in UTC, YYYY-MM-DD HH:MM:SS+00:00"),
    "uuid": ("UUID", "kept as text"),
    # the word TEXT keeps SQLite from making a number of what looks like one
    "json": ("JSON TEXT", "kept as text"),
}


class SqliteDialect(CommonDialect):
    """See ``Dialect``."""

    name = "sqlite"
    lexical = Lexical(open_comments=True, backticks=True, brackets=True)
    takes = TAKEN | {"REPLACE", "REINDEX"}
    max_identifier_bytes = 1000
    max_columns = 2000
    keeps_comments = False
    random_value = "random()"
    length = "length"
    compares_moments = False  # they are texts, in one form or another
    computes_decimals = False
    slices_texts = False  # a NUL character ends a text for them
    text_type = "TEXT"
    natives: Sequence[str] = (
        "INTEGER", "BIGINT", "SMALLINT", "BOOLEAN", "REAL", "DOUBLE PRECISION", "DECIMAL(18,2)", "NUMERIC",
        "DECIMAL TEXT(18,2)", "TEXT", "VARCHAR(80)", "BLOB", "DATE", "TIME", "DATETIME", "TIMESTAMP", "TIMESTAMPTZ",
        "UUID", "JSON", "JSON TEXT", "",
    )  # fmt: skip
    refuses = frozenset({"not finite", "far years", "long numbers"})

    def by_bytes(self, name: str) -> str:
        return f"{name} COLLATE BINARY"

    def like(self, text: str, pattern: str) -> str:
        # its LIKE takes a for A
        special = {"%": "*", "_": "?", "*": "[*]", "?": "[?]", "[": "[[]"}
        return f"{text} GLOB {self.literal(''.join(special.get(mark, mark) for mark in pattern))}"

    def as_bigint(self, expression: str) -> str:
        return expression

    def enlarges(self, kind: CanonicalType) -> bool:
        return False  # a declared type stays as it was written

    def compared(self, value: str, kind: CanonicalType) -> str:
        return self.by_bytes(value) if kind.name in ("text", "json") else value

    def differs(self, left: str, right: str) -> str:
        return f"{left} IS NOT {right}"

    def delete_matched(self, table: str, staged: str, matched: str, keys: Sequence[str]) -> str:
        # without a join, and by an index on the keys where there is one
        named = ", ".join(f"t.{self.quote(key)}" for key in keys)
        found = ", ".join(f"s.{self.quote(key)}" for key in keys)
        return f"DELETE FROM {table} AS t WHERE ({named}) IN (SELECT {found} FROM {staged} AS s)"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name == "decimal":
            digits = f"({wanted.precision},{wanted.scale or 0})" if wanted.precision else ""
            return Translation(f"DECIMAL TEXT{digits}", Fit.WIDER, "kept as text, so that no digit is lost")
        native, change = _TO_NATIVE[wanted.name]
        return Translation(native, Fit.WIDER if change else Fit.EXACT, change)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _DECLARED.match(native)
        if not match:
            return None if native.strip() else CanonicalType("text")
        base = match["base"].lower()
        first = int(match["first"]) if match["first"] else None
        if base in _KNOWN:
            return CanonicalType(_KNOWN[base])
        if base in ("decimal", "numeric", "decimal text"):
            if first is None or first > MAX_PRECISION:
                return CanonicalType("decimal")
            return CanonicalType("decimal", precision=first, scale=int(match["second"] or 0))
        # SQLite's own rules of affinity, in their order
        if "int" in base:
            # of a word that only has it in it, such as INTEGER_OR_TEXT, the values say more
            return CanonicalType("bigint") if _INTEGER.fullmatch(base) else None
        if any(word in base for word in ("char", "clob", "text")):
            return CanonicalType("text", length=first or None)
        if "blob" in base:
            return CanonicalType("binary")
        if any(word in base for word in ("real", "floa", "doub")):
            return CanonicalType("double")
        return None  # to SQLite a number, whatever it is called; its values say
