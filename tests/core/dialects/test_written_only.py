"""SQL Server and Oracle: what is written for them, by their public documentation."""

from __future__ import annotations

import pytest

from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.dialects.oracle import OracleDialect
from ultravect.core.kinds.registry import dialects
from ultravect.core.kinds.sqlserver.dialect import SqlserverDialect
from ultravect.core.types.canonical import NAMES, parse_type

SQLSERVER = [
    ("bit", "boolean"), ("tinyint", "smallint"), ("int", "integer"), ("decimal(18,2)", "decimal(18,2)"), ("decimal", "decimal(18,0)"),
    ("money", "decimal(19,4)"), ("float", "double"), ("float(24)", "real"), ("nvarchar(80)", "text(80)"), ("varchar(max)", "text"),
    ("varbinary(max)", "binary"), ("rowversion", "bigint"), ("datetime", "timestamp(3)"), ("datetime2(7)", "timestamp(6)"),
    ("datetimeoffset(3)", "timestamptz(3)"), ("time(0)", "time(0)"), ("uniqueidentifier", "uuid"), ("sql_variant", None),
]  # fmt: skip
ORACLE = [
    ("NUMBER(19,0)", "decimal(19,0)"), ("NUMBER", "decimal"), ("NUMBER(*,0)", "decimal(38,0)"), ("NUMBER(10,-2)", "decimal(12,0)"),
    ("NUMBER(2,5)", "decimal(5,5)"), ("BINARY_DOUBLE", "double"), ("VARCHAR2(80 CHAR)", "text(80)"), ("CLOB", "text"), ("RAW(16)", "binary(16)"),
    ("DATE", "timestamp(0)"), ("TIMESTAMP(9)", "timestamp(6)"), ("TIMESTAMP(6) WITH LOCAL TIME ZONE", "timestamptz(6)"),
    ("INTERVAL DAY(2) TO SECOND(6)", None),
]  # fmt: skip
NEW = [
    ("boolean", "bit", "NUMBER(1)"), ("bigint", "bigint", "NUMBER(19)"), ("decimal(38,10)", "decimal(38,10)", "NUMBER(38,10)"),
    ("decimal", "decimal(38,18)", "NUMBER"), ("text", "nvarchar(max)", "CLOB"), ("text(80)", "nvarchar(160)", "VARCHAR2(80 CHAR)"),
    ("text(3000)", "nvarchar(max)", "CLOB"), ("binary(16)", "varbinary(16)", "RAW(16)"), ("binary(9000)", "varbinary(max)", "BLOB"),
    ("date", "date", "DATE"), ("time(3)", "time(3)", "VARCHAR2(15 CHAR)"), ("timestamp", "datetime2(6)", "TIMESTAMP(6)"),
    ("timestamptz(3)", "datetimeoffset(3)", "TIMESTAMP(3) WITH TIME ZONE"), ("uuid", "uniqueidentifier", "RAW(16)"),
    ("json", "nvarchar(max)", "CLOB"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("dialect", "native", "canonical"),
    [(SqlserverDialect(), *item) for item in SQLSERVER] + [(OracleDialect(), *item) for item in ORACLE],
)
def test_native_types(dialect: SqlserverDialect | OracleDialect, native: str, canonical: str | None) -> None:
    found = dialect.to_canonical(native)
    assert (str(found) if found else None) == canonical


@pytest.mark.parametrize(("canonical", "sqlserver", "oracle"), NEW)
def test_new_columns(canonical: str, sqlserver: str, oracle: str) -> None:
    wanted = parse_type(canonical)
    assert (SqlserverDialect().from_canonical(wanted).native, OracleDialect().from_canonical(wanted).native) == (
        sqlserver,
        oracle,
    )


@pytest.mark.parametrize("dialect", dialects().values(), ids=dialects().keys())
def test_every_dialect_has_every_type(dialect: SqlserverDialect) -> None:
    for name in NAMES:
        assert dialect.from_canonical(parse_type(name)).native


def test_names_and_texts_stay_what_they_are() -> None:
    assert SqlserverDialect().quote("a]; drop table x --") == "[a]]; drop table x --]"
    assert OracleDialect().quote('a" --') == '"a"" --"'
    assert SqlserverDialect().literal("o'clock") == "N'o''clock'"
    table = SqlserverDialect().create_table(
        TableName("dbo", "hut"), NewTable([NewColumn("code", parse_type("text(3)"))])
    )[0]
    assert table == "CREATE TABLE [dbo].[hut] (\n    [code] nvarchar(6)\n)"


def test_upserts() -> None:
    target, staged = TableName("ledger", "booking"), TableName(None, "stage")
    assert OracleDialect().upsert(target, staged, ["id", "hut"], ["id", "hut"]) == (
        'MERGE INTO "ledger"."booking" t\n'
        'USING "stage" s ON (t."id" = s."id" AND t."hut" = s."hut")\n'
        'WHEN NOT MATCHED THEN INSERT ("id", "hut") VALUES (s."id", s."hut")'
    )
    assert 'WHERE DECODE(t."beds", s."beds", 0, 1) = 1' in OracleDialect().upsert(
        target, staged, ["id"], ["id", "beds"]
    )
