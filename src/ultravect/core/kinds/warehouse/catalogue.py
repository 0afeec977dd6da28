"""What is asked of a warehouse's catalogue: the views of the standard, which its relatives share."""

from __future__ import annotations

from ultravect.core.dialects.base import Dialect, TableName

KINDS = {"BASE TABLE": "table", "VIEW": "view", "LOCAL TEMPORARY": "table"}
LIST = """
SELECT table_schema, table_name, table_type FROM information_schema.tables
WHERE table_schema NOT IN ('information_schema', 'INFORMATION_SCHEMA', 'pg_catalog', 'pg_internal') AND table_schema NOT LIKE 'pg_temp%'
  AND position(lower({search}) IN lower(table_schema || '.' || table_name)) > 0 AND table_schema || '.' || table_name > {after}
ORDER BY table_schema || '.' || table_name LIMIT {limit}
"""
_FIND = """
SELECT table_schema, table_name, table_type FROM information_schema.tables
WHERE table_schema = {schema} AND table_name = {table}
"""
COLUMNS = """
SELECT column_name, coalesce(domain_name, data_type), character_maximum_length, numeric_precision, numeric_scale,
       is_nullable = 'YES', column_default
FROM information_schema.columns WHERE table_schema = {schema} AND table_name = {table} ORDER BY ordinal_position
"""
KEYS = """
SELECT k.column_name FROM information_schema.table_constraints c
  JOIN information_schema.key_column_usage k ON k.constraint_schema = c.constraint_schema AND k.constraint_name = c.constraint_name
    AND k.table_schema = c.table_schema AND k.table_name = c.table_name
WHERE c.constraint_type = 'PRIMARY KEY' AND c.table_schema = {schema} AND c.table_name = {table}
"""


def find(dialect: Dialect, table: TableName, usual_schema: str) -> str:
    """Asks for schema, name and type of a table; no row where there is none."""
    return _FIND.format(schema=dialect.literal(table.schema or usual_schema), table=dialect.literal(table.name))


def native_of(base: str, length: int | None, precision: int | None, scale: int | None) -> str:
    """A type as it is declared, from what the catalogue says of it."""
    if base.lower() in ("numeric", "decimal", "number") and precision is not None:
        return f"{base}({precision},{scale or 0})"
    if (
        base.lower() in ("character varying", "character", "varbyte", "text", "varchar", "binary")
        and length is not None
    ):
        return f"{base}({length})"
    return base
