"""Every native type of every dialect with its extreme values, copied into each database and back: what became of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from devtools.pairs import Copied, Place, copy

# the values as each database writes them
NATIVES: Mapping[str, Sequence[tuple[str, Sequence[str]]]] = {
    "postgresql": [
        ("boolean", ["true", "false"]),
        ("smallint", ["-32768", "32767"]),
        ("integer", ["-2147483648", "2147483647"]),
        ("bigint", ["-9223372036854775808", "9223372036854775807"]),
        ("numeric(18,2)", ["-9999999999999999.99", "0.01"]),
        ("numeric(60,10)", ["99999999999999999999999999999999999999999999999999.9999999999", "-0.0000000001"]),
        ("numeric", ["12345678901234567890.123456789012345678", "1e-20", "1e120", "'NaN'"]),
        ("real", ["1.5", "3.4e38", "'NaN'", "'-Infinity'"]),
        ("double precision", ["1.7976931348623157e308", "5e-324", "'NaN'", "'Infinity'"]),
        ("text", ["''", "' '", "'é😀 \n\t \\ \" '' ; --'"]),
        ("character varying(80)", ["''", "repeat('ß', 80)"]),
        ("character(3)", ["'007'", "'a'"]),
        ("bytea", ["'\\x'", "'\\x00ff0a5c'"]),
        ("date", ["'0001-01-01'", "'9999-12-31'", "'infinity'", "'0044-03-15 BC'"]),
        ("time without time zone", ["'00:00:00'", "'23:59:59.999999'", "'24:00:00'"]),
        ("timestamp without time zone", ["'0001-01-01'", "'9999-12-31 23:59:59.999999'", "'-infinity'"]),
        ("timestamp(3) without time zone", ["'2026-06-01 10:00:00.123'"]),
        ("timestamp with time zone", ["'2026-03-29 01:30:00.123456+00'", "'infinity'"]),
        ("uuid", ["'00000000-0000-0000-0000-000000000000'", "'ffffffff-ffff-ffff-ffff-ffffffffffff'"]),
        ("json", ["'{\"b\": 1, \"a\": [1.0, null]}'", "'\"x\"'"]),
        ("jsonb", ["'{\"a\": [1.50, null]}'", "'null'"]),
        ("money", ["'-92233720368547758.08'", "'0.01'"]),
        ("interval", ["'1 year 2 mons -3 days 04:05:06.7'", "'0'"]),
        ("inet", ["'192.0.2.1/24'", "'2001:db8::1'"]),
        ("integer[]", ["'{1,NULL,3}'", "'{}'"]),
        ("int4range", ["'[1,5)'", "'empty'"]),
        ("time with time zone", ["'23:59:59.999999+02'"]),
        ("point", ["'(1.5,-2)'"]),
        ("xml", ["'<a b=\"1\">x</a>'"]),
        ("bit(8)", ["B'00000001'", "B'11111111'"]),
        ("tsvector", ["'a:1 b:2'"]),
    ],
    "mariadb": [
        ("tinyint(1)", ["0", "1"]),
        ("tinyint(4)", ["-128", "127"]),
        ("tinyint(3) unsigned", ["0", "255"]),
        ("smallint(6)", ["-32768", "32767"]),
        ("mediumint(9)", ["-8388608", "8388607"]),
        ("int(11)", ["-2147483648", "2147483647"]),
        ("int(10) unsigned", ["4294967295"]),
        ("bigint(20)", ["-9223372036854775808", "9223372036854775807"]),
        ("bigint(20) unsigned", ["0", "18446744073709551615"]),
        ("decimal(18,2)", ["-9999999999999999.99", "0.01"]),
        ("decimal(65,30)", ["99999999999999999999999999999999999.999999999999999999999999999999", "1e-30"]),
        ("float", ["1.5", "3.4e38"]),
        ("double", ["1.7976931348623157e308", "5e-324"]),
        ("bit(1)", ["b'0'", "b'1'"]),
        ("bit(12)", ["b'000000000001'", "b'111111111111'"]),
        ("char(3)", ["'007'", "'a'"]),
        ("varchar(80)", ["''", "repeat('ß', 80)", "'a '"]),
        ("tinytext", ["''", "'é😀'"]),
        ("text", ["' '", "'é😀 \\n\\t \\\\ \" '' ; --'"]),
        ("mediumtext", ["repeat('x', 100000)"]),
        ("longtext", ["'a\\0b'"]),
        ("binary(16)", ["unhex('000102030405060708090a0b0c0d0e0f')"]),
        ("varbinary(80)", ["''", "unhex('00ff')"]),
        ("blob", ["''", "unhex('00ff0a5c')"]),
        ("longblob", ["unhex('89504e47')"]),
        ("date", ["'1000-01-01'", "'9999-12-31'", "'0000-00-00'"]),
        ("time", ["'-838:59:59'", "'00:00:00'", "'838:59:59'"]),
        ("time(3)", ["'23:59:59.999'"]),
        ("datetime", ["'1000-01-01 00:00:00'", "'0000-00-00 00:00:00'"]),
        ("datetime(6)", ["'9999-12-31 23:59:59.999999'"]),
        ("timestamp", ["'1970-01-01 00:00:01'", "'2038-01-19 03:14:07'"]),
        ("timestamp(6)", ["'2026-03-29 01:30:00.123456'"]),
        ("year(4)", ["1901", "2155"]),
        ("enum('a','b')", ["'a'", "'b'"]),
        ("set('a','b')", ["''", "'a,b'"]),
        ("json", ["'{\"b\": 1, \"a\": [1.0, null]}'"]),
        ("uuid", ["'123e4567-e89b-12d3-a456-426614174000'"]),
        ("inet6", ["'2001:db8::1'"]),
        ("point", ["point(1.5, -2)"]),
    ],
    "sqlite": [
        ("INTEGER", ["-9223372036854775808", "9223372036854775807"]),
        ("BIGINT", ["-1"]),
        ("SMALLINT", ["32767"]),
        ("BOOLEAN", ["0", "1"]),
        ("REAL", ["1.5", "1e308"]),
        ("DOUBLE PRECISION", ["5e-324", "-0.25"]),
        ("DECIMAL(18,2)", ["0.01", "-1234567.89"]),
        ("NUMERIC", ["12", "0.5"]),
        ("DECIMAL TEXT(18,2)", ["'-9999999999999999.99'"]),
        ("TEXT", ["''", "'é😀 \n \\ '' ; --'"]),
        ("VARCHAR(80)", ["'a '"]),
        ("BLOB", ["x''", "x'00ff'"]),
        ("DATE", ["'0001-01-01'", "'9999-12-31'"]),
        ("TIME", ["'23:59:59'"]),
        ("DATETIME", ["'2026-06-01 10:00:00'"]),
        ("TIMESTAMP", ["'2026-06-01 10:00:00.5'"]),
        ("TIMESTAMPTZ", ["'2026-06-01 10:00:00+00:00'"]),
        ("UUID", ["'123e4567-e89b-12d3-a456-426614174000'"]),
        ("JSON", ["'{\"a\": 1}'"]),
        ("JSON TEXT", ["'[1, null]'"]),
        ("", ["1", "'x'", "x'00'"]),
    ],
    "duckdb": [
        ("BOOLEAN", ["true", "false"]),
        ("TINYINT", ["-128", "127"]),
        ("SMALLINT", ["-32768", "32767"]),
        ("INTEGER", ["-2147483648", "2147483647"]),
        ("BIGINT", ["-9223372036854775808", "9223372036854775807"]),
        ("HUGEINT", ["-170141183460469231731687303715884105728", "1"]),
        ("UTINYINT", ["255"]),
        ("USMALLINT", ["65535"]),
        ("UINTEGER", ["4294967295"]),
        ("UBIGINT", ["18446744073709551615"]),
        ("UHUGEINT", ["340282366920938463463374607431768211455"]),
        ("DECIMAL(18,2)", ["-9999999999999999.99"]),
        ("FLOAT", ["1.5", "'nan'", "'-inf'"]),
        ("DOUBLE", ["1.7976931348623157e308", "5e-324", "'nan'", "'inf'"]),
        ("VARCHAR", ["''", "'é😀 \n \\ '' ; --'", "'a' || chr(0) || 'b'"]),
        ("BLOB", ["''::BLOB", "unhex('00ff')"]),
        ("DATE", ["'0001-01-01'", "'9999-12-31'", "'infinity'", "'0044-03-15 (BC)'"]),
        ("TIME", ["'23:59:59.999999'"]),
        ("TIMESTAMP", ["'0001-01-01'", "'9999-12-31 23:59:59.999999'", "'infinity'"]),
        ("TIMESTAMP_S", ["'2026-06-01 10:00:00'"]),
        ("TIMESTAMP_MS", ["'2026-06-01 10:00:00.123'"]),
        ("TIMESTAMP_NS", ["'2026-06-01 10:00:00.123456'", "'2026-06-01 10:00:00.123456789'"]),
        ("TIMESTAMP WITH TIME ZONE", ["'2026-03-29 01:30:00.123456+00'"]),
        ("UUID", ["'123e4567-e89b-12d3-a456-426614174000'"]),
        ("JSON", ["'{\"a\": [1.0, null], \"b\": 1}'"]),  # as jsonb writes it: that keeps values, not their text
        ("ENUM('a', 'b')", ["'b'"]),
        ("INTEGER[]", ["[1, NULL]", "[]"]),
        ("STRUCT(a INTEGER)", ["{'a': 1}"]),
        ("MAP(VARCHAR, INTEGER)", ["MAP {'a': 1}"]),
        ("INTERVAL", ["INTERVAL '1 year 2 days 3 seconds'"]),
        ("BIT", ["'101'"]),
    ],
    "sqlserver": [
        ("bit", ["0", "1"]),
        ("tinyint", ["0", "255"]),
        ("smallint", ["-32768", "32767"]),
        ("int", ["-2147483648", "2147483647"]),
        ("bigint", ["-9223372036854775808", "9223372036854775807"]),
        ("decimal(18,2)", ["-9999999999999999.99", "0.01"]),
        ("numeric(38,10)", ["9999999999999999999999999999.9999999999", "-0.0000000001"]),
        ("money", ["-922337203685477.5808", "0.0001"]),
        ("smallmoney", ["-214748.3648", "0.0001"]),
        ("real", ["1.5", "3.4e38"]),
        ("float", ["1.7976931348623157e308", "-0.25"]),
        ("float(24)", ["0.5"]),
        ("char(3)", ["N'007'"]),
        ("varchar(80)", ["N''", "N'für 5 €'"]),
        ("varchar(max)", ["N'x'"]),
        ("nchar(3)", ["N'007'"]),
        ("nvarchar(80)", ["N''", "N'a '", "N'é😀 \n\t \\ \" '' ; --'"]),
        ("nvarchar(max)", ["N' '", "N'é😀'"]),
        ("text", ["N'old'"]),
        ("ntext", ["N'old é'"]),
        ("xml", ["N'<a b=\"1\">x</a>'"]),
        ("binary(16)", ["0x000102030405060708090a0b0c0d0e0f"]),
        ("varbinary(80)", ["0x", "0x00ff"]),
        ("varbinary(max)", ["0x89504e47"]),
        ("image", ["0x89"]),
        ("date", ["N'0001-01-01'", "N'9999-12-31'"]),
        ("time(7)", ["N'00:00:00'", "N'23:59:59.999999'"]),
        ("datetime", ["N'2026-06-01 10:00:00.123'"]),
        ("smalldatetime", ["N'2026-06-01 10:00:00'"]),
        ("datetime2(3)", ["N'2026-06-01 10:00:00.123'"]),
        ("datetime2(7)", ["N'0001-01-01 00:00:00'", "N'9999-12-31 23:59:59.999999'"]),
        ("datetimeoffset(7)", ["N'2026-03-29 01:30:00.123456+00:00'"]),
        ("uniqueidentifier", ["N'123e4567-e89b-12d3-a456-426614174000'"]),
    ],
}  # fmt: skip

# in some database these have values that others have no room or no word for; each of those is reported
LIMITED = frozenset(
    [
        "numeric", "numeric(60,10)", "decimal(65,30)", "NUMERIC", "HUGEINT", "UHUGEINT", "real", "float", "FLOAT", "double",
        "double precision", "DOUBLE", "date", "DATE", "time", "time without time zone", "timestamp without time zone",
        "timestamp with time zone", "datetime", "TIMESTAMP", "TIMESTAMP_NS", "longtext", "VARCHAR", "", "datetime2(7)",
    ]
)  # fmt: skip
_SAME = {
    "postgresql": 'a.{0}::text COLLATE "C" IS NOT DISTINCT FROM b.{0}::text',
    "mariadb": "BINARY a.{0} <=> BINARY b.{0}",
    "sqlite": "a.{0} IS b.{0} AND typeof(a.{0}) = typeof(b.{0})",
    "duckdb": "a.{0} IS NOT DISTINCT FROM b.{0}",
    "sqlserver": "EXISTS (SELECT CAST(CAST(a.{0} AS nvarchar(max)) AS varbinary(max)) INTERSECT "
    "SELECT CAST(CAST(b.{0} AS nvarchar(max)) AS varbinary(max)))",
}
_ZONED = frozenset(
    [
        "timestamp with time zone",
        "TIMESTAMP WITH TIME ZONE",
        "timestamp",
        "timestamp(6)",
        "TIMESTAMPTZ",
        "datetimeoffset(7)",
    ]
)
_JSONB = "a.{0}::jsonb IS NOT DISTINCT FROM b.{0}::jsonb"


@dataclass
class FileOutcome:
    """What became of a type's values: those not ``equal`` were ``rejected``, with a reason, or ``changed``."""

    native: str
    values: int
    rejected: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    announced: list[str] = field(default_factory=list)

    @property
    def equal(self) -> int:
        return self.values - len(self.rejected) - len(self.changed)

    @property
    def silent(self) -> bool:
        """Whether a value changed without a word."""
        return bool(self.changed) and not self.announced


def _create(kind: str, table: str) -> str:
    columns = ", ".join(f"c{number} {native}" for number, (native, _) in enumerate(NATIVES[kind]))
    return f"CREATE TABLE {table} (n integer, {columns})"


def make(place: Place) -> None:
    """The table ``natives``: a row for each value of each type, so that a reject concerns no other."""
    place.drop("natives")
    place.sql(_create(place.kind, "natives"))
    row = 0
    for number, (_, values) in enumerate(NATIVES[place.kind]):
        for value in values:
            row += 1
            lenient = "SET STATEMENT sql_mode = '' FOR " if place.kind == "mariadb" else ""
            place.sql(f"{lenient}INSERT INTO natives (n, c{number}) VALUES ({row}, {value})")


def fates(a: Place, b: Place) -> list[FileOutcome]:
    """What becomes of the types of ``a`` on the way into a new table of ``b`` and back."""
    there, back = f"natives_from_{a.kind}", f"natives_by_{b.kind}"
    b.drop(there)
    first = copy(a, b, "natives", there, rejects="100%")
    a.drop(back)
    a.sql(_create(a.kind, back))
    zoned = [
        f"c{number} at time zone 'UTC' as c{number}"
        for number, (native, _) in enumerate(NATIVES[a.kind])
        if b.kind == "mariadb" and native in _ZONED
    ]  # fmt: skip
    second = copy(b, a, there, back, ["*", *zoned], rejects="100%")
    found = []
    row = 0
    for number, (native, values) in enumerate(NATIVES[a.kind]):
        fate = FileOutcome(native, len(values), announced=_announced(first, number) + _announced(second, number))
        same = _SAME[a.kind]
        if a.kind == "postgresql" and native.startswith(("json", "numeric")):
            same = _JSONB if native.startswith("json") else "a.{0} IS NOT DISTINCT FROM b.{0}"
        same = same.format(f"c{number}")
        kept = {n for (n,) in a.sql(f"SELECT a.n FROM natives a JOIN {back} b ON a.n = b.n WHERE {same}")}
        refused = {_row(item.record): item.reason for item in (*first.rejected, *second.rejected)}
        for value in values:
            row += 1
            if row in refused:
                fate.rejected.append(f"{value}: {refused[row]}")
            elif row not in kept:
                fate.changed.append(value)
        found.append(fate)
    return found


def _announced(copied: Copied, number: int) -> list[str]:
    shown = [finding.message for finding in copied.findings if finding.code == "type-as-text"]
    named = (f"column c{number}:", f"column 'c{number}'")
    return [item for item in (*copied.announced, *shown) if item.startswith(named)]


def _row(record: str) -> int:
    """The number of the row that a reject keeps."""
    return int(record.split(",")[0].strip('[{"n: '))


def page(places: Mapping[str, Place]) -> str:
    """The values that did not come back as they were, as a section of the matrix's page."""
    lines = [
        "## Every native type",
        "",
        "The same with every type that the translation table lists, and its extreme values, a row for each value. What is not",
        "listed came back equal. A value is rejected with its reason, or changed where the fit said so beforehand.",
        "",
        "| from | into | type | equal | rejected or changed |",
        "|---|---|---|---|---|",
    ]
    for place in places.values():
        make(place)
    for a in places.values():
        for b in places.values():
            every = fates(a, b)
            values, equal = sum(item.values for item in every), sum(item.equal for item in every)
            lines.append(f"| {a.kind} | {b.kind} | all {len(every)} | {equal} of {values} | |")
            for item in every:
                if item.equal < item.values:
                    shown = [*item.rejected, *(f"{value}: changed, as announced" for value in item.changed)]
                    named = item.native or "none declared"
                    why = "; ".join(shown).replace("|", "\\|")
                    lines.append(f"| | | {named} | {item.equal} of {item.values} | {why} |")
    return "\n".join(lines) + "\n"
