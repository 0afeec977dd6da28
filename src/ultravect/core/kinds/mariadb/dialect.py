"""MariaDB, and MySQL. Types: https://mariadb.com/kb/en/data-types/"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence

from ultravect.core.dialects.base import NewColumn, NewTable, Translation
from ultravect.core.dialects.common import DEFINITIONS, CommonDialect
from ultravect.core.dialects.statements import TAKEN, Lexical, Statement
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_MAX_CHARACTERS = 64
_MAX_KEY_CHARACTERS = 768  # 3,072 bytes of an index, four a character
_MAX_COMMENT = 1024
# the catalogue's COLUMN_TYPE: name, arguments, and words after
_NATIVE = re.compile(r"^(?P<base>[a-z][a-z0-9]*)(?:\((?P<first>\d+)(?:,(?P<second>\d+))?\))?(?P<rest>.*)$", re.S)
_INTEGERS = {
    "tinyint": "smallint",
    "smallint": "smallint",
    "mediumint": "integer",
    "int": "integer",
    "bigint": "bigint",
}
_NEXT = {"tinyint": "smallint", "smallint": "integer", "mediumint": "integer", "int": "bigint"}
_OTHERS = {
    "float": "real",
    "double": "double",
    "tinytext": "text",
    "text": "text",
    "mediumtext": "text",
    "longtext": "text",
    "enum": "text",
    "set": "text",
    "tinyblob": "binary",
    "blob": "binary",
    "mediumblob": "binary",
    "longblob": "binary",
    "date": "date",
    "year": "smallint",
    "json": "json",
    "uuid": "uuid",
    "inet4": "text",
    "inet6": "text",
}
_TO_NATIVE = {
    "boolean": "boolean",
    "smallint": "smallint",
    "integer": "int",
    "bigint": "bigint",
    "real": "float",
    "double": "double",
    "date": "date",
    "json": "json",
    "uuid": "uuid",
}


class MariadbDialect(CommonDialect):
    """See ``Dialect``."""

    name = "mariadb"
    lexical = Lexical(
        hash_comments=True, spaced_dashes=True, executable_comments=True, backslashes=True, backticks=True
    )
    takes = TAKEN | {"REPLACE", "OPTIMIZE TABLE", "RENAME TABLE", "CREATE OR REPLACE TABLE", "CREATE FULLTEXT INDEX"}
    # engines of tables that are files, other servers or programs, and where such files are
    refused_words = frozenset(
        [
            "OUTFILE",
            "DUMPFILE",
            "DIRECTORY",
            "CONNECTION",
            "CONNECT",
            "FEDERATED",
            "FEDERATEDX",
            "SPIDER",
            "CSV",
            "OQGRAPH",
        ]
    )
    equal_by_bytes = False
    max_identifier_bytes = _MAX_CHARACTERS * 4
    max_columns = 1017
    random_value = "RAND()"
    length = "CHAR_LENGTH"
    text_type = "CHAR"
    quote_mark = "`"
    rows_of = ""
    restates_columns = True
    natives: Sequence[str] = (
        "tinyint(1)", "tinyint(4)", "tinyint(3) unsigned", "smallint(6)", "mediumint(9)", "int(11)", "int(10) unsigned",
        "bigint(20)", "bigint(20) unsigned", "decimal(18,2)", "decimal(65,30)", "float", "double", "bit(1)", "bit(12)",
        "char(3)", "varchar(80)", "tinytext", "text", "mediumtext", "longtext", "binary(16)", "varbinary(80)", "blob",
        "longblob", "date", "time", "time(3)", "datetime", "datetime(6)", "timestamp", "timestamp(6)", "year(4)",
        "enum('a','b')", "set('a','b')", "json", "uuid", "inet6", "point",
    )  # fmt: skip
    refuses = frozenset({"not finite", "far years"})

    def as_value(self, name: str, native: str) -> str:
        return self.as_text(name) if native == "uuid" else name

    def by_bytes(self, name: str) -> str:
        return f"CAST(CONVERT({name} USING utf8mb4) AS BINARY)"

    def like(self, text: str, pattern: str) -> str:
        # an escape character that a pattern does not have
        escape = next(mark for mark in "!|~^" if mark not in pattern)
        return (
            f"CONVERT({text} USING utf8mb4) COLLATE utf8mb4_nopad_bin LIKE {self.literal(pattern)} ESCAPE '{escape}'"
        )

    def moment(self, value: dt.datetime) -> str:
        return f"TIMESTAMP'{value.strftime('%Y-%m-%d %H:%M:%S.%f').rjust(26, '0')}'"

    def as_bigint(self, expression: str) -> str:
        return f"CAST({expression} AS SIGNED)"

    def standard(self, condition: str) -> str:
        # in a literal, a grave accent is one, and a backslash means more than itself
        if "'" in condition and ("\\" in condition or re.search(r"'[^']*`", condition)):
            return condition
        return condition.replace('"', '""').replace("`", '"') if '"' not in condition else condition

    def literal(self, text: str) -> str:
        if text.isascii() and text.isprintable() and "'" not in text and "\\" not in text:
            return f"'{text}'"
        # hexadecimal digits mean the same in every sql_mode
        return f"X'{text.encode().hex()}'"

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        if kind is None:
            return f"ST_AsText({name})"  # only geometry has no type here
        if kind.name == "timestamptz":
            return f"CONCAT({name}, '+00:00')"  # sessions are in UTC
        if kind.name == "real":
            return f"{name} * 1e0"  # the server writes six digits of it
        return f"{name} + 0" if native.lower() == "bit(1)" else name

    def catalogued(self, native: str) -> str:
        return "tinyint(1)" if native == "boolean" else native

    def column_comment(self, column: NewColumn) -> str:
        return f" COMMENT {self._shown(column.comment)}" if column.comment else ""

    def table_comment(self, new: NewTable) -> str:
        return f" COMMENT = {self._shown(new.comment)}" if new.comment else ""

    @staticmethod
    def _shown(text: str) -> str:
        """A comment is a text in quotes and nothing else; loads set a mode in which a backslash escapes."""
        return "'" + text[:_MAX_COMMENT].replace("\\", "\\\\").replace("'", "''") + "'"

    def key_obstacle(self, kind: CanonicalType) -> str:
        if kind.name in ("text", "binary") and (kind.length is None or kind.length > _MAX_KEY_CHARACTERS):
            return f"a key of {kind.name} needs a length, of at most {_MAX_KEY_CHARACTERS}"
        return "documents cannot be a key" if kind.name == "json" else ""

    def enlarge(self, column: NewColumn) -> str:
        return f"MODIFY COLUMN {self._column(column)}"

    def compared(self, value: str, kind: CanonicalType) -> str:
        return self.by_bytes(value) if kind.name in ("text", "json") else value

    def commits_itself(self, statement: Statement) -> bool:
        return statement.first in DEFINITIONS

    def differs(self, left: str, right: str) -> str:
        return f"NOT ({left} <=> {right})"

    def delete_where(self, table: str, condition: str) -> str:
        return f"DELETE t FROM {table} t WHERE {condition}"

    def delete_matched(self, table: str, staged: str, matched: str, keys: Sequence[str]) -> str:
        return f"DELETE t FROM {table} t JOIN {staged} s ON {matched}"

    def update_matched(self, table: str, staged: str, matched: str, columns: Sequence[str], where: str) -> str:
        settings = ", ".join(f"t.{self.quote(column)} = s.{self.quote(column)}" for column in columns)
        return f"UPDATE {table} t JOIN {staged} s ON {matched} SET {settings} WHERE {where}"

    def too_long(self, part: str) -> str:
        if len(part) <= _MAX_CHARACTERS:
            return ""
        return f"the name {part!r} is longer than the {_MAX_CHARACTERS} characters MariaDB allows"

    def spelled(self, name: str) -> str:
        # names are stored in three bytes a character, and lose blanks at their end
        plain = "".join("_" if ord(character) > 0xFFFF else character for character in name)
        return plain.rstrip(" ") + "_" * (len(plain) - len(plain.rstrip(" ")))

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        match wanted.name:
            case "text":
                native = f"varchar({wanted.length})" if wanted.length and wanted.length <= 16_383 else "longtext"
                return Translation(native, Fit.EXACT)
            case "binary":
                native = f"varbinary({wanted.length})" if wanted.length and wanted.length <= 65_535 else "longblob"
                return Translation(native, Fit.EXACT)
            case "decimal":
                if wanted.precision is None:
                    return Translation(
                        "decimal(65,30)", Fit.NARROWER, "at most 35 digits before the mark, 30 after it"
                    )
                return Translation(f"decimal({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
            case "time" | "timestamp":
                digits = 6 if wanted.precision is None else wanted.precision
                return Translation(f"{'time' if wanted.name == 'time' else 'datetime'}({digits})", Fit.EXACT)
            case "timestamptz":
                digits = 6 if wanted.precision is None else wanted.precision
                return Translation(f"datetime({digits})", Fit.DIFFERENT, "stored in UTC, without its zone")
        return Translation(_TO_NATIVE[wanted.name], Fit.EXACT)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _NATIVE.match(native.lower())
        if not match:
            return None
        base = match["base"]
        first = int(match["first"]) if match["first"] else None
        if base in _INTEGERS:
            return self._integer(base, first, "unsigned" in match["rest"])
        if base == "decimal":
            precision, scale = first or 10, int(match["second"] or 0)
            return (
                CanonicalType("decimal", precision=precision, scale=scale)
                if precision <= MAX_PRECISION
                else CanonicalType("decimal")
            )
        if base in ("char", "varchar"):
            return CanonicalType("text", length=first)
        if base in ("binary", "varbinary"):
            return CanonicalType("binary", length=first)
        if base == "bit":
            return CanonicalType("boolean") if first == 1 else CanonicalType("binary", length=((first or 1) + 7) // 8)
        if base == "datetime":
            return CanonicalType("timestamp", precision=first or 0)
        if base == "timestamp":
            return CanonicalType("timestamptz", precision=first or 0)
        if base == "time":
            return CanonicalType("time", precision=first or 0)
        return CanonicalType(_OTHERS[base]) if base in _OTHERS else None

    @staticmethod
    def _integer(base: str, width: int | None, unsigned: bool) -> CanonicalType:
        if base == "tinyint" and width == 1 and not unsigned:
            return CanonicalType("boolean")
        if not unsigned:
            return CanonicalType(_INTEGERS[base])
        # values up to twice as large need the next type
        return CanonicalType("decimal", precision=20, scale=0) if base == "bigint" else CanonicalType(_NEXT[base])
