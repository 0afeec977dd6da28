"""Puts a new table in the place of an old one, with what belonged to the old one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.dialects.base import Dialect, NewTable, TableName
from ultravect.core.kinds.postgresql.catalogue import Session

# whole rows of grants: WITH GRANT OPTION is kept, column by column it is not
_GRANTS = """
SELECT g.privilege_type, CASE WHEN g.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END, g.is_grantable
FROM pg_class c, aclexplode(c.relacl) g WHERE c.oid = to_regclass(%s) AND g.grantee <> c.relowner
"""
_CONSTRAINTS = """
SELECT quote_ident(conname), pg_get_constraintdef(c.oid),
       ARRAY(SELECT attname::text FROM pg_attribute a WHERE a.attrelid = c.conrelid AND a.attnum = ANY (c.conkey)), contype::text
FROM pg_constraint c WHERE conrelid = %s AND contype IN ('p', 'u', 'c', 'f', 'x')
ORDER BY contype = 'f', conname
"""
_INDEXES = """
SELECT pg_get_indexdef(i.indexrelid),
       ARRAY(SELECT attname::text FROM pg_attribute a JOIN pg_depend d ON d.refobjid = a.attrelid AND d.refobjsubid = a.attnum
             WHERE d.objid = i.indexrelid AND a.attrelid = i.indrelid)
FROM pg_index i WHERE i.indrelid = %s AND NOT EXISTS (SELECT 1 FROM pg_constraint WHERE conindid = i.indexrelid)
"""


def _rows(session: Session, query: str, oid: int) -> list[tuple[Any, ...]]:
    return session.execute(query.encode(), (oid,)).fetchall()


def grants_of(session: Session, dialect: Dialect, table: TableName) -> list[str]:
    """Statements that grant what others than the owner were granted on ``table``."""
    name = dialect.table(table)
    return [
        f"GRANT {privilege} ON {name} TO {grantee}{' WITH GRANT OPTION' if grantable else ''}"
        for privilege, grantee, grantable in session.execute(_GRANTS.encode(), (name,)).fetchall()
    ]


def move_table(session: Session, dialect: Dialect, table: TableName, to: TableName) -> None:
    """Gives ``table`` another name, and puts it into the other's schema."""
    if table.schema != to.schema and to.schema:
        session.execute(f"ALTER TABLE {dialect.table(table)} SET SCHEMA {dialect.quote(to.schema)}".encode())
        table = TableName(to.schema, table.name)
    session.execute(f"ALTER TABLE {dialect.table(table)} RENAME TO {dialect.quote(to.name)}".encode())


def take_name(session: Session, dialect: Dialect, filled: TableName, name: TableName, made: NewTable) -> None:
    """Has a table that was made and filled as ``made`` without its key be the new table ``name``, with it."""
    move_table(session, dialect, filled, name)
    if made.keys:
        keys = ", ".join(dialect.quote(key) for key in made.keys)
        session.execute(f"ALTER TABLE {dialect.table(name)} ADD PRIMARY KEY ({keys})".encode())


def kept_comments(old: LiveTable, names: Sequence[str], dialect: Dialect, table: str) -> list[str]:
    """Statements that give ``table`` the comments of ``old``: its own, and those of the columns ``names``."""
    shown = [f"COMMENT ON TABLE {table} IS {dialect.literal(old.comment)}"] if old.comment else []
    return shown + [
        f"COMMENT ON COLUMN {table}.{dialect.quote(column.name)} IS {dialect.literal(column.comment)}"
        for column in old.columns
        if column.comment and column.name in names
    ]


def replace_table(session: Session, dialect: Dialect, old: LiveTable, new: TableName) -> None:
    """Drops ``old`` and gives ``new`` its name, its owner, its grants and comments, and those of its constraints and
    indexes whose columns remain. Fails, with all as it was, when a view or a foreign key depends on the old table."""
    table, staged = dialect.table(old.name), dialect.table(new)

    def run(statement: str) -> None:
        session.execute(statement.encode())

    run(f"LOCK TABLE {table} IN ACCESS EXCLUSIVE MODE")
    row = session.execute(
        b"SELECT c.oid, quote_ident(pg_get_userbyid(c.relowner)), pg_get_userbyid(c.relowner) = current_user FROM pg_class c "
        b"WHERE c.oid = to_regclass(%s)",
        (table,),
    ).fetchone()
    assert row is not None, "the table is locked"
    oid, owner, own = row
    names = [
        name
        for (name,) in _rows(
            session,
            "SELECT attname FROM pg_attribute WHERE attrelid = %s AND attnum > 0 AND NOT attisdropped",
            session.execute(b"SELECT to_regclass(%s)::oid", (staged,)).fetchall()[0][0],
        )
    ]
    granted = grants_of(session, dialect, old.name)
    constraints = [item for item in _rows(session, _CONSTRAINTS, oid) if set(item[2]) <= set(names)]
    indexes = [item for item in _rows(session, _INDEXES, oid) if set(item[1]) <= set(names)]
    keyed = session.execute(
        b"SELECT 1 FROM pg_constraint WHERE conrelid = to_regclass(%s) AND contype = 'p'", (staged,)
    ).fetchone()
    run(f"DROP TABLE {table}")
    move_table(session, dialect, new, old.name)
    for name, definition, _, kind in constraints:
        if not (keyed and kind == "p"):
            run(f"ALTER TABLE {table} ADD CONSTRAINT {name} {definition}")
    for definition, _ in indexes:
        run(definition)
    for statement in kept_comments(old, names, dialect, table):
        run(statement)
    if not own:
        run(f"ALTER TABLE {table} OWNER TO {owner}")
    for statement in granted:
        run(statement)
