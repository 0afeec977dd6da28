"""Puts one table in the place of another: a new one with other columns, or one of the same make that was filled next to it.

Deleting a row costs about as much as writing one, so a large table is overwritten by another in its place (``ShadowTable``). That is only as
good as deleting if no one can see the difference: nothing may depend on the old table, the new one has all that it
had, and rows are frozen as they are copied, so that readers whose snapshot is older than the load see them too, not an
empty table. Where that is not so, or where readers would have to wait for it, rows are deleted.
"""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from typing import Any

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.dialects.base import Dialect, NewTable, TableName
from ultravect.core.kinds.postgresql.catalogue import Session, find_table
from ultravect.core.kinds.postgresql.locks import try_lock

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
_INDEXES_OF = """
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
    indexes = [item for item in _rows(session, _INDEXES_OF, oid) if set(item[1]) <= set(names)]
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


# below, deleting costs nothing that anyone would notice
LARGE_ROWS = 20_000
# tables that LIKE and a few statements make again whole, and on which nothing but their own parts depends
_PLAIN = """
SELECT EXISTS (SELECT 1 FROM pg_stats s WHERE s.schemaname = n.nspname AND s.tablename = c.relname)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
     JOIN pg_namespace place ON place.nspname = coalesce(%(staging)s, n.nspname)
WHERE c.oid = to_regclass(%(table)s) AND c.relkind = 'r' AND c.relpersistence = 'p'
  AND pg_get_userbyid(c.relowner) = current_user
  AND has_schema_privilege(n.oid, 'CREATE') AND has_schema_privilege(place.oid, 'CREATE')
  AND NOT (c.relispartition OR c.relrowsecurity OR c.relforcerowsecurity OR c.relhasrules OR c.relhassubclass)
  AND c.reloftype = 0 AND c.relreplident = 'd' AND c.reloptions IS NULL
  AND c.reltablespace = 0 AND current_setting('default_tablespace') = ''
  AND c.relam = (SELECT oid FROM pg_am WHERE amname = current_setting('default_table_access_method'))
  AND NOT EXISTS (SELECT 1 FROM pg_class o WHERE o.oid = c.reltoastrelid AND o.reloptions IS NOT NULL)
  AND NOT EXISTS (SELECT 1 FROM pg_inherits WHERE c.oid IN (inhrelid, inhparent))
  AND NOT EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = c.oid)
  AND NOT EXISTS (SELECT 1 FROM pg_event_trigger WHERE evtenabled <> 'D')
  AND NOT EXISTS (SELECT 1 FROM pg_seclabel WHERE objoid = c.oid)
  AND NOT EXISTS (SELECT 1 FROM pg_subscription_rel WHERE srrelid = c.oid)
  AND NOT EXISTS (SELECT 1 FROM pg_publication_tables p WHERE p.schemaname = n.nspname AND p.tablename = c.relname)
  AND NOT EXISTS (SELECT 1 FROM pg_default_acl
                  WHERE defaclrole = c.relowner AND defaclobjtype = 'r' AND defaclnamespace IN (0, n.oid, place.oid))
  AND NOT EXISTS (SELECT 1 FROM aclexplode(c.relacl) WHERE grantor <> c.relowner)
  AND (c.relacl IS NULL OR (SELECT count(*) FROM aclexplode(c.relacl) WHERE grantee = c.relowner)
                           = (SELECT count(*) FROM aclexplode(acldefault('r', c.relowner))))
  AND NOT EXISTS (SELECT 1 FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped
                  AND (attacl IS NOT NULL OR attoptions IS NOT NULL OR attidentity <> '' OR coalesce(attstattarget, -1) >= 0))
  AND NOT EXISTS (SELECT 1 FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = c.oid
                  AND (i.indisclustered OR i.indisreplident OR NOT i.indisvalid OR x.reltablespace <> 0))
  AND NOT EXISTS (SELECT 1 FROM pg_depend WHERE classid = 'pg_class'::regclass AND objid = c.oid AND deptype IN ('e', 'x'))
  AND NOT EXISTS (
    SELECT 1 FROM pg_depend d WHERE d.refclassid = 'pg_class'::regclass AND d.refobjid = c.oid
      AND NOT (d.classid = 'pg_type'::regclass AND d.objid = c.reltype)
      AND NOT (d.classid = 'pg_class'::regclass AND d.objid = c.reltoastrelid)
      AND NOT (d.classid = 'pg_class'::regclass AND d.objid IN (SELECT indexrelid FROM pg_index WHERE indrelid = c.oid))
      AND NOT (d.classid = 'pg_attrdef'::regclass AND d.objid IN (SELECT oid FROM pg_attrdef WHERE adrelid = c.oid))
      AND NOT (d.classid = 'pg_constraint'::regclass
               AND d.objid IN (SELECT oid FROM pg_constraint WHERE conrelid = c.oid AND contype <> 'f')))
  AND NOT EXISTS (
    SELECT 1 FROM pg_depend d JOIN pg_type t ON t.oid = c.reltype
    WHERE d.refclassid = 'pg_type'::regclass AND d.refobjid IN (t.oid, t.typarray)
      AND NOT (d.classid = 'pg_type'::regclass AND d.objid = t.typarray))
"""
# the definition of an index without its name and that of its table
_INDEXES = """
SELECT x.relname, concat(i.indisunique, i.indisprimary, i.indimmediate, k.contype, substring(d.text FROM position(' USING ' IN d.text)))
FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid LEFT JOIN pg_constraint k ON k.conindid = i.indexrelid,
     LATERAL (SELECT pg_get_indexdef(i.indexrelid) AS text) d
WHERE i.indrelid = to_regclass(%s) ORDER BY 2, 1
"""


def swap_obstacle(session: Session, dialect: Dialect, old: LiveTable, staging: str | None, needs: SwapNeeds) -> str:
    """See ``Target.swap_obstacle``."""
    table = dialect.table(old.name)
    if needs.keyed:
        return "rows with keys stand in a staging table first, where a key that comes twice is found"
    if needs.changes:
        return "the table is changed, and its rows with it"
    if needs.after:
        return "the statements of into.after need the table itself"
    if needs.keeps:
        return "the old rows are kept in a table of their own (into.keep_previous)"
    row = session.execute(
        f"SELECT count(*) FROM (SELECT FROM {table} LIMIT {LARGE_ROWS}) counted".encode()
    ).fetchone()
    if row is None or row[0] < LARGE_ROWS:
        return f"the table has fewer than {LARGE_ROWS:,} rows, which are deleted as quickly"
    if session.execute(_PLAIN.encode(), {"table": table, "staging": staging}).fetchone() is None:
        return (
            "another table would not be the same: this one has triggers, rules, privileges, partitions or settings of its own, "
            "something depends on it, or the user does not own it"
        )
    return ""


def replaces_empty(session: Session, dialect: Dialect, old: LiveTable, staging: str | None) -> bool:
    """Whether a table has no rows, and another one made like it could take its place without a difference."""
    table = dialect.table(old.name)
    asked = {"table": table, "staging": staging}
    if session.execute(_PLAIN.encode(), asked).fetchone() is None:
        return False
    return _is_empty(session, table)


def _is_empty(session: Session, table: str) -> bool:
    return session.execute(f"SELECT FROM {table} LIMIT 1".encode()).fetchone() is None


class ShadowTable:
    """``table`` is empty and stands next to ``old``, which is locked against other writers."""

    def __init__(
        self,
        session: Session,
        dialect: Dialect,
        old: LiveTable,
        table: LiveTable,
        names: dict[str, str],
        analyzed: bool,
    ) -> None:
        """``names``: what its indexes are called, and those of ``old`` that they stand for."""
        self._session, self._dialect, self._old, self._analyzed = session, dialect, old, analyzed
        self.table = table
        self._indexes = names

    @classmethod
    def create(cls, session: Session, dialect: Dialect, old: LiveTable, staging: str | None) -> ShadowTable | None:
        """One for ``old``, in the schema ``staging``; None where rows have to be deleted."""
        asked = {"table": dialect.table(old.name), "staging": staging}
        plain = session.execute(_PLAIN.encode(), asked).fetchone()
        if plain is None:
            return None
        name = TableName(staging or old.name.schema, f"ultravect_stage_{secrets.token_hex(6)}")
        made = cls.made_like(session, dialect, old, name, analyzed=plain[0])
        if made is None:
            session.execute(f"DROP TABLE {dialect.table(name)}".encode())
        return made

    @classmethod
    def made_like(
        cls, session: Session, dialect: Dialect, old: LiveTable, name: TableName, *, analyzed: bool
    ) -> ShadowTable | None:
        """Makes a table like ``old``; None where it has not all that the old one has."""
        session.execute(f"CREATE TABLE {dialect.table(name)} (LIKE {dialect.table(old.name)} INCLUDING ALL)".encode())
        return cls.of(session, dialect, old, name, analyzed=analyzed)

    @classmethod
    def of(
        cls, session: Session, dialect: Dialect, old: LiveTable, name: TableName, *, analyzed: bool
    ) -> ShadowTable | None:
        """The table that was made like ``old``; None where the old one is another by now."""
        theirs, ours = (
            session.execute(_INDEXES.encode(), (dialect.table(of),)).fetchall() for of in (old.name, name)
        )
        table = find_table(session, dialect, name)
        if table is None or [made for _, made in theirs] != [made for _, made in ours]:
            return None
        names = {new: known for (new, _), (known, _) in zip(ours, theirs, strict=True)}
        return cls(session, dialect, old, table, names, analyzed)

    def named(self, text: str) -> str:
        """``text`` of the server with the names that its reader knows."""
        for new, known in {**self._indexes, self.table.name.name: self._old.name.name}.items():
            text = text.replace(new, known)
        return text

    def filled(self) -> None:
        """To be called after the last row: the planner is to know as much of this table as of the old one."""
        if self._analyzed:
            self._run(f"ANALYZE {self._dialect.table(self.table.name)}")

    def take_place(self, seconds: float, *, of_empty: bool = False) -> bool:
        """Takes the old table's name. Where that is being read, the old rows are deleted and these added: then it is False.

        ``seconds``: how long later steps may wait for locks. ``of_empty``: the old table is replaced only if it has no rows; those that it has stay.
        """
        old, new = self._old.name, self.table.name
        table, ours = self._dialect.table(old), self._dialect.table(new)
        locked = try_lock(self._session, table, "ACCESS EXCLUSIVE", seconds)
        if not locked or (of_empty and not _is_empty(self._session, table)):
            names = ", ".join(
                self._dialect.quote(column.name) for column in self._old.columns if not column.generated
            )
            if not of_empty:
                self._run(f"DELETE FROM {table}")
            self._run(f"INSERT INTO {table} ({names}) SELECT {names} FROM {ours}")
            self._run(f"DROP TABLE {ours}")
            return False
        granted = grants_of(self._session, self._dialect, old)
        self._run(f"DROP TABLE {table}")
        move_table(self._session, self._dialect, new, old)
        for made, known in self._indexes.items():
            made_there = self._dialect.table(TableName(old.schema, made))
            self._run(f"ALTER INDEX {made_there} RENAME TO {self._dialect.quote(known)}")
        # LIKE has brought the comments of the columns
        for statement in [*kept_comments(self._old, (), self._dialect, table), *granted]:
            self._run(statement)
        return True

    def _run(self, statement: str) -> None:
        self._session.execute(statement.encode())
