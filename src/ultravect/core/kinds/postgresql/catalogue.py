"""What PostgreSQL's catalogue says about tables, columns and privileges."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from psycopg import Connection

from ultravect.core.contracts.catalogue import LiveCheck, LiveColumn, LiveTable, Reference, TableInfo
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.loading.defaults import constant_default

_KINDS = {"r": "table", "p": "table", "v": "view", "m": "materialized view", "f": "foreign table"}

# all that is asked of a table is one statement: a round trip may take longer than what it asks
_FIND = """
SELECT n.nspname, c.relname, c.relkind,
       ARRAY(SELECT p FROM unnest(ARRAY['SELECT', 'INSERT', 'UPDATE', 'DELETE', 'TRUNCATE']) p WHERE has_table_privilege(c.oid, p))
       || CASE WHEN has_database_privilege(current_database(), 'TEMPORARY') THEN ARRAY['TEMPORARY'] ELSE '{{}}' END,
       CASE WHEN c.reltuples >= 0 THEN c.reltuples::bigint END, coalesce(obj_description(c.oid, 'pg_class'), ''),
       ({columns}), ({indexes}), ({checks}), {dependents}
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.oid = to_regclass(%s) AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
"""
_COLUMNS = """
SELECT json_agg(json_build_array(
         a.attname, format_type(a.atttypid, a.atttypmod), coalesce(b.typname, t.typname),
         CASE WHEN b.oid IS NULL THEN format_type(a.atttypid, a.atttypmod) ELSE format_type(b.oid, t.typtypmod) END,
         NOT (a.attnotnull OR t.typnotnull), a.atthasdef OR a.attidentity <> '' OR t.typdefault IS NOT NULL,
         a.attgenerated <> '' OR a.attidentity = 'a',
         coalesce(a.attnum = ANY ((SELECT i.indkey FROM pg_index i WHERE i.indrelid = a.attrelid AND i.indisprimary)::int2[]), false),
         coalesce(col_description(a.attrelid, a.attnum), ''), pg_get_expr(d.adbin, d.adrelid)) ORDER BY a.attnum)
FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type b ON b.oid = nullif(t.typbasetype, 0)
     LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum AND a.attgenerated = ''
WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
"""
_INDEXES = """
SELECT json_agg(json_build_array(
         i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL, i.indisvalid AND i.indpred IS NULL,
         (SELECT a.attname::text FROM pg_attribute a WHERE a.attrelid = i.indrelid AND a.attnum = i.indkey[0]),
         ARRAY(SELECT a.attname::text FROM pg_attribute a WHERE a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey))))
FROM pg_index i WHERE i.indrelid = c.oid
"""
# what a trigger could change before, and what is compared by more than bytes, only the database decides
_CHECKS = """
SELECT json_agg(json_build_array(conname, pg_get_expr(conbin, conrelid)) ORDER BY conname) FROM pg_constraint k
WHERE conrelid = c.oid AND contype = 'c' AND c.relkind = 'r'
  AND NOT EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = conrelid AND NOT tgisinternal AND tgtype & 3 = 3)
  AND NOT EXISTS (SELECT 1 FROM pg_attribute a LEFT JOIN pg_collation l ON l.oid = a.attcollation
                  WHERE a.attrelid = conrelid AND a.attnum = ANY (k.conkey)
                        AND (NOT l.collisdeterministic OR a.atttypid = 'bpchar'::regtype))
"""
_DEPENDENTS = """
ARRAY(SELECT DISTINCT 'view ' || r.ev_class::regclass FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
      WHERE d.refclassid = 'pg_class'::regclass AND d.refobjid = c.oid AND d.classid = 'pg_rewrite'::regclass
            AND r.ev_class <> c.oid ORDER BY 1)
|| ARRAY(SELECT format('foreign key %%s of %%s', f.conname, f.conrelid::regclass) FROM pg_constraint f
         WHERE f.confrelid = c.oid AND f.contype = 'f' AND f.conrelid <> c.oid ORDER BY 1)
"""
_WHOLE = _FIND.format(columns=_COLUMNS, indexes=_INDEXES, checks=_CHECKS, dependents=_DEPENDENTS)
_BARE = _FIND.format(columns=_COLUMNS, indexes="NULL::json", checks="NULL::json", dependents="'{}'::text[]")
_LIST = """
SELECT n.nspname, c.relname, c.relkind, CASE WHEN c.reltuples >= 0 THEN c.reltuples::bigint END,
       coalesce(obj_description(c.oid, 'pg_class'), ''),
       -- as statistics have it: asking for the files' sizes would wait for a session that has locked a table
       CASE WHEN c.relpages > 0 THEN c.relpages::bigint * current_setting('block_size')::int END
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
  AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_%%'
  AND position(lower(%s) in lower(n.nspname || '.' || c.relname)) > 0
  AND (n.nspname || '.' || c.relname) COLLATE "C" > %s
ORDER BY (n.nspname || '.' || c.relname) COLLATE "C" LIMIT %s
"""
_REFERENCES = """
SELECT DISTINCT n.nspname, c.relname, o.nspname, r.relname FROM pg_constraint f
  JOIN pg_class c ON c.oid = f.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  JOIN pg_class r ON r.oid = f.confrelid JOIN pg_namespace o ON o.oid = r.relnamespace
WHERE f.contype = 'f' AND c.oid <> r.oid AND NOT c.relispartition AND NOT r.relispartition
"""
_READABLE = """
SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_%%'
  AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT')
ORDER BY 1, 2 LIMIT 1
"""

Session = Connection[tuple[Any, ...]]


class SessionStatements:
    """See ``Statements``."""

    def __init__(self, session: Session) -> None:
        self.session = session

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        return self.session.execute(statement.encode()).fetchall()

    def changed(self, statement: str) -> int:
        return self.session.execute(statement.encode()).rowcount


def find_table(session: Session, dialect: Dialect, name: TableName, *, whole: bool = True) -> LiveTable | None:
    """The table that ``name`` means on this session's search path; ``whole`` False: without its indexes and checks, and what depends on it."""
    row = session.execute((_WHOLE if whole else _BARE).encode(), (dialect.table(name),)).fetchone()
    if row is None:
        return None
    schema, table, kind, granted, rows, comment, found, indexes, checks, dependents = row
    columns = [
        LiveColumn(
            column,
            native,
            base,
            dialect.to_canonical(underlying),
            nullable,
            has_default,
            generated,
            key,
            shown,
            constant_default(default),
        )
        for column, native, base, underlying, nullable, has_default, generated, key, shown, default in found or ()
    ]
    return LiveTable(
        TableName(schema, table),
        _KINDS[kind],
        columns,
        frozenset(granted),
        rows,
        comment,
        [frozenset(names) for is_unique, _, _, names in indexes or () if is_unique],
        dependents,
        [LiveCheck(check, condition) for check, condition in checks or ()],
        frozenset(first for _, is_whole, first, _ in indexes or () if is_whole and first),
    )


def resolved(session: Session, name: TableName) -> TableName:
    """The name of a table with its schema: that of the table that is there, or the one in which it would be made."""
    if name.schema:
        return name
    asked = "SELECT coalesce((SELECT relnamespace::regnamespace::text FROM pg_class WHERE oid = to_regclass(%s)), quote_ident(current_schema()))"
    row = session.execute(asked, (f'"{name.name.replace(chr(34), chr(34) * 2)}"',)).fetchone()
    schema = row[0] if row else None
    return TableName(schema[1:-1].replace('""', '"') if schema and schema.startswith('"') else schema, name.name)


def has_table(session: Session, name: str) -> bool:
    """Whether there is a table of this quoted name."""
    row = session.execute("SELECT to_regclass(%s)", (name,)).fetchone()
    return row is not None and row[0] is not None


def list_tables(session: Session, search: str, after: str, limit: int) -> Sequence[TableInfo]:
    return [
        TableInfo(f"{schema}.{table}", _KINDS[kind], rows, comment, TableName(schema, table), size)
        for schema, table, kind, rows, comment, size in session.execute(_LIST, (search, after, limit))
    ]


def references(session: Session) -> Sequence[Reference]:
    return [
        Reference(TableName(schema, table), TableName(other_schema, other))
        for schema, table, other_schema, other in session.execute(_REFERENCES)
    ]


def readable_table(session: Session) -> TableName | None:
    """Some table that the session's user may read."""
    row = session.execute(_READABLE).fetchone()
    return TableName(*row) if row else None


def type_names(session: Session, kinds: Sequence[tuple[int, int]]) -> list[str]:
    """Native types as the catalogue writes them, from their numbers and modifiers."""
    rows = session.execute(
        "SELECT format_type(oid, mod) FROM unnest(%s::oid[], %s::int[]) WITH ORDINALITY AS t(oid, mod, place) ORDER BY place",
        ([oid for oid, _ in kinds], [mod for _, mod in kinds]),
    )
    return [name for (name,) in rows]


def create_obstacle(session: Session, name: TableName) -> str:
    """Why the session's user cannot create ``name``, or ""."""
    row = session.execute("SELECT coalesce(%s, current_schema()), current_user", (name.schema,)).fetchone()
    schema, user = row or (None, None)
    if schema is None:
        return "no schema of the search path exists; name one in into.table"
    known = session.execute(
        "SELECT has_schema_privilege(oid, 'CREATE') FROM pg_namespace WHERE nspname = %s", (schema,)
    ).fetchone()
    if known is None:
        return f"there is no schema {schema!r}"
    return "" if known[0] else f"user {user!r} may not create tables in schema {schema!r}"


_PAGES = """
SELECT max(pg_relation_size(c.oid) / current_setting('block_size')::int)
FROM pg_class t, LATERAL (
  SELECT t.oid AS oid WHERE t.relkind = 'r' UNION ALL SELECT relid FROM pg_partition_tree(t.oid) WHERE t.relkind = 'p' AND isleaf
) c JOIN pg_class leaf ON leaf.oid = c.oid AND leaf.relkind = 'r'
WHERE t.oid = to_regclass(%s)
"""


def pages(session: Session, dialect: Dialect, name: TableName) -> int:
    """How many pages a table has, or the largest partition of it; 0 where it has none of its own."""
    row = session.execute(_PAGES.encode(), (dialect.table(name),)).fetchone()
    return int(row[0] or 0) if row else 0
