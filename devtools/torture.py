"""A table with every type and its extreme values, in each database; the same rows everywhere."""

from __future__ import annotations

from dataclasses import dataclass

# canonical type, then the native one in each database, then SQL literals that all of them take (NULL besides)
_BIG = "'" + "x" * 1_000_000 + "'"
COLUMNS: list[tuple[str, dict[str, str], list[str]]] = [
    ("flag", {"postgresql": "boolean", "mariadb": "boolean", "sqlite": "BOOLEAN", "duckdb": "BOOLEAN", "sqlserver": "bit"}, ["true", "false"]),
    ("small", {"*": "smallint"}, ["-32768", "32767"]),
    ("whole", {"*": "integer"}, ["-2147483648", "2147483647"]),
    ("big", {"*": "bigint"}, ["-9223372036854775808", "9223372036854775807"]),
    ("price", {"*": "decimal(18,2)", "sqlite": "DECIMAL TEXT(18,2)"}, ["'-9999999999999999.99'", "'0.01'"]),
    ("exact", {"*": "decimal(38,10)", "sqlite": "DECIMAL TEXT(38,10)"}, ["'-9999999999999999999999999999.9999999999'", "'0.0000000001'"]),
    ("single", {"*": "real", "mariadb": "float"}, ["1.5", "-0.25"]),
    ("twice", {"*": "double precision", "duckdb": "DOUBLE"}, ["1e308", "4.9e-324"]),
    ("note", {"*": "text", "mariadb": "longtext", "sqlserver": "nvarchar(max)"}, ["''", "'é€😀 tab\t back\\\\slash \"quoted\" \n next'"]),
    ("essay", {"*": "text", "mariadb": "longtext", "sqlserver": "nvarchar(max)"}, [_BIG, "' '"]),
    ("code", {"*": "varchar(3)", "sqlserver": "nvarchar(3)"}, ["'007'", "'äöü'"]),
    ("bytes", {"postgresql": "bytea", "mariadb": "longblob", "sqlite": "BLOB", "duckdb": "BLOB", "sqlserver": "varbinary(max)"}, ["<00ff10>", "<>"]),
    ("day", {"*": "date"}, ["'0001-01-01'", "'9999-12-31'"]),
    ("clock", {"*": "time", "mariadb": "time(6)", "sqlserver": "time(6)"}, ["'00:00:00'", "'23:59:59.999999'"]),
    ("moment", {"*": "timestamp", "mariadb": "datetime(6)", "sqlserver": "datetime2(6)"}, ["'1000-01-01 00:00:00'", "'9999-12-31 23:59:59.999999'"]),
    ("instant", {"postgresql": "timestamptz", "mariadb": "timestamp(6) null", "sqlite": "TIMESTAMPTZ", "duckdb": "TIMESTAMPTZ",
      "sqlserver": "datetimeoffset(6)"},
     ["'1970-01-01 00:00:01<z>'", "'2026-03-29 01:30:00.123456<z>'"]),
    ("id", {"postgresql": "uuid", "mariadb": "uuid", "sqlite": "UUID", "duckdb": "UUID", "sqlserver": "uniqueidentifier"},
     ["'00000000-0000-0000-0000-000000000000'", "'123e4567-e89b-12d3-a456-426614174000'"]),
    ("doc", {"postgresql": "json", "mariadb": "json", "sqlite": "JSON TEXT", "duckdb": "JSON", "sqlserver": "nvarchar(max)"},
     ["'{\"a\": [1, null]}'", "'\"x\"'"]),
]  # fmt: skip


@dataclass(frozen=True)
class Torture:
    """The statements that make the table ``torture`` in a database."""

    kind: str

    def _native(self, natives: dict[str, str]) -> str:
        return natives.get(self.kind) or natives["*"]

    def _literal(self, text: str) -> str:
        if text.startswith("<"):
            digits = text[1:-1]
            if self.kind == "sqlserver":
                return f"0x{digits}"
            if self.kind == "postgresql":
                return f"'\\x{digits}'::bytea"
            return f"unhex('{digits}')" if self.kind == "duckdb" else f"x'{digits}'"
        if self.kind == "sqlserver":
            text = {"true": "1", "false": "0"}.get(text, f"N{text}" if text.startswith("'") else text)
        # backslashes stand for themselves but in MariaDB, where a literal has them doubled
        text = text if self.kind == "mariadb" else text.replace("\\\\", "\\")
        return text.replace("<z>", {"mariadb": "", "sqlite": "+00:00", "sqlserver": "+00:00"}.get(self.kind, "+00"))

    @property
    def create(self) -> str:
        columns = ", ".join(f"{name} {self._native(natives)}" for name, natives, _ in COLUMNS)
        return f"CREATE TABLE torture (n integer, {columns})"

    @property
    def inserts(self) -> list[str]:
        rows = [[values[row] for _, _, values in COLUMNS] for row in (0, 1)] + [["NULL"] * len(COLUMNS)]
        return [
            f"INSERT INTO torture VALUES ({number}, {', '.join(self._literal(value) for value in row)})"
            for number, row in enumerate(rows, 1)
        ]
