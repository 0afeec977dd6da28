"""The SQL of warehouses that copy from a named stage: names are folded to upper case, and there are three kinds of timestamps."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ultravect.core.dialects.base import NewColumn, NewTable, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.dialects.naming import parse_name
from ultravect.core.dialects.statements import TAKEN, Lexical
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_NATIVE = re.compile(r"^(?P<base>[a-z_ ]+?)(?:\((?P<first>\d+)(?:,\s*(?P<second>\d+))?\))?$")
_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_$]*")
_MAX_TEXT, _MAX_BINARY, _MAX_NUMBER = 16_777_216, 8_388_608, 38
_TO_CANONICAL = {
    "boolean": "boolean", "float": "double", "double precision": "double", "real": "double", "date": "date", "variant": "json",
    "time": "time", "time without time zone": "time", "timestamp_ntz": "timestamp", "timestamp without time zone": "timestamp",
    "timestamp_ltz": "timestamptz", "timestamp_tz": "timestamptz", "timestamp with time zone": "timestamptz", "text": "text",
    "varchar": "text", "character varying": "text", "character": "text", "binary": "binary", "bytea": "binary",
}  # fmt: skip
_TO_NATIVE: Mapping[str, tuple[str, str]] = {
    "boolean": ("BOOLEAN", ""),
    "smallint": ("NUMBER(5,0)", "as a number of 5 digits"),
    "integer": ("NUMBER(10,0)", "as a number of 10 digits"),
    "bigint": ("NUMBER(19,0)", "as a number of 19 digits"),
    "real": ("FLOAT", ""),
    "double": ("FLOAT", ""),
    "date": ("DATE", ""),
    "time": ("TIME(6)", ""),
    "timestamp": ("TIMESTAMP_NTZ(6)", ""),
    "timestamptz": ("TIMESTAMP_TZ(6)", ""),
    "uuid": ("VARCHAR(36)", "kept as text"),
    "json": ("VARIANT", "kept as a semi-structured value"),
}
_INTEGERS = {5: "smallint", 10: "integer", 19: "bigint"}
"""The digits that columns for whole numbers are made with, so that they come back as what they were."""


class StageDialect(CommonDialect):
    """See ``Dialect``. A name without quotes is one in upper case."""

    name = "warehouse_stage"
    lexical = Lexical(dollar_quotes=True)
    takes = TAKEN | {"CREATE OR REPLACE TABLE"}
    max_identifier_bytes = 255
    max_columns = 2000
    folds_case = False
    random_value = "random()"
    length = "length"
    text_type = "VARCHAR"
    natives: Sequence[str] = (
        "BOOLEAN", "NUMBER(5,0)", "NUMBER(19,0)", "NUMBER(18,2)", "NUMBER(38,0)", "FLOAT", "VARCHAR(80)", "VARCHAR", "BINARY(16)", "DATE",
        "TIME(6)", "TIMESTAMP_NTZ(6)", "TIMESTAMP_LTZ(6)", "TIMESTAMP_TZ(6)", "VARIANT", "GEOGRAPHY",
    )  # fmt: skip

    def too_long(self, part: str) -> str:
        if len(part.encode()) <= self.max_identifier_bytes:
            return ""
        return f"the name {part!r} is longer than the {self.max_identifier_bytes} bytes a warehouse allows"

    def parse_table(self, text: str) -> TableName:
        return parse_name(text, self.quote_mark, self.too_long, str.upper)

    def spelled(self, name: str) -> str:
        return name.upper() if _PLAIN.fullmatch(name) else name

    def shown(self, name: str) -> str:
        """A name as ``parse_table`` reads it again."""
        return name if self.spelled(name) == name and _PLAIN.fullmatch(name) else self.quote(name)

    def create_table(self, table: TableName, new: NewTable) -> Sequence[str]:
        created, *rest = super().create_table(table, new)
        if new.sort_by:
            created += f"\nCLUSTER BY ({', '.join(map(self.quote, new.sort_by))})"
        return [created, *rest]

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        return self.comment_on(table, new)

    def key_obstacle(self, kind: CanonicalType) -> str:
        return "documents cannot be a key" if kind.name == "json" else ""

    def enlarge(self, column: NewColumn) -> str:
        return f"ALTER COLUMN {self.quote(column.name)} SET DATA TYPE {self.from_canonical(column.type).native}"

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        if kind is not None and kind.name == "json":
            return f"CAST(to_json({name}) AS VARCHAR)"
        if kind is not None and kind.name == "timestamptz":
            # files that are unloaded have no moments with a zone
            return f"convert_timezone('UTC', {name})"
        return super().readable(name, native, kind)

    def staged(self, column: str, native: str, kind: CanonicalType) -> str:
        """What brings a column of a staged file into a column of the given type; ``column`` is quoted."""
        if kind.name == "json":
            return f"parse_json($1:{column}::VARCHAR)"
        return f"$1:{column}::{native}"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        match wanted.name:
            case "text" if wanted.length is not None and wanted.length <= _MAX_TEXT:
                return Translation(f"VARCHAR({wanted.length})", Fit.EXACT)
            case "text":
                return Translation("VARCHAR", Fit.NARROWER, f"at most {_MAX_TEXT:,} bytes")
            case "binary" if wanted.length is not None and wanted.length <= _MAX_BINARY:
                return Translation(f"BINARY({wanted.length})", Fit.EXACT)
            case "binary":
                return Translation("BINARY", Fit.NARROWER, f"at most {_MAX_BINARY:,} bytes")
            case "decimal" if wanted.precision is None:
                return Translation("NUMBER(38,18)", Fit.NARROWER, "at most 20 digits before the mark, 18 after it")
            case "decimal":
                return Translation(f"NUMBER({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
        native, change = _TO_NATIVE[wanted.name]
        if wanted.name in ("time", "timestamp", "timestamptz") and wanted.precision not in (None, 6):
            return Translation(native, Fit.WIDER, "six digits of seconds")
        return Translation(native, Fit.WIDER if change or wanted.name == "real" else Fit.EXACT, change)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _NATIVE.match(native.lower())
        if not match:
            return None
        base, first = match["base"], int(match["first"]) if match["first"] else None
        if base in ("number", "numeric", "decimal"):
            precision, scale = min(first or _MAX_NUMBER, MAX_PRECISION), int(match["second"] or 0)
            if scale == 0 and precision in _INTEGERS:
                return CanonicalType(_INTEGERS[precision])
            return CanonicalType("decimal", precision=precision, scale=scale)
        name = _TO_CANONICAL.get(base)
        if name is None:
            return None
        if name in ("time", "timestamp", "timestamptz"):
            return CanonicalType(name, precision=6)
        return CanonicalType(name, length=first if name in ("text", "binary") else None)
