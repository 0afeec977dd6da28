"""Overwrites of large PostgreSQL tables by another table in their place: no one can see the difference."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import psycopg
import pytest
from devtools.pairs import Place
from devtools.stack import Stack
from tests.core.modes.test_bad_targets import Hooked, load
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError

ROWS = 25_000
NEW = [(1, "soup"), (2, "stew")]


@pytest.fixture
def writer(places: dict[str, Place], tmp_path: Path) -> Writer:
    writer = Writer(places["postgresql"], tmp_path)
    sql = writer.place.sql
    sql("DROP TABLE IF EXISTS modes CASCADE")
    for name in writer.left_behind():
        sql(f"DROP TABLE {name}")
    sql("CREATE TABLE modes (k bigint, v text DEFAULT 'none')")
    sql(f"INSERT INTO modes SELECT n, 'old' FROM generate_series(1, {ROWS}) n")
    return writer


def place_of(writer: Writer) -> Any:
    return writer.place.sql("SELECT 'modes'::regclass::oid")


DESCRIBED = """
SELECT 'column', attname, format_type(atttypid, atttypmod), attnotnull, attstorage, attcollation::regcollation::text, attgenerated,
       pg_get_expr(adbin, adrelid), col_description(attrelid, attnum)
FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = attrelid AND adnum = attnum
WHERE attrelid = 'modes'::regclass AND attnum > 0 AND NOT attisdropped
UNION ALL SELECT 'constraint', conname, pg_get_constraintdef(oid), convalidated, contype, obj_description(oid, 'pg_constraint'), '', '', ''
FROM pg_constraint WHERE conrelid = 'modes'::regclass
UNION ALL SELECT 'index', indexrelid::regclass::text, pg_get_indexdef(indexrelid), indisunique, indisprimary::text::"char",
                 obj_description(indexrelid, 'pg_class'), '', '', ''
FROM pg_index WHERE indrelid = 'modes'::regclass
UNION ALL SELECT 'table', c.relname, c.relowner::regrole::text, c.relispartition, c.relpersistence, obj_description(c.oid, 'pg_class'), '',
                 (SELECT string_agg(a::text, ' ' ORDER BY a::text) FROM unnest(c.relacl) a), ''
FROM pg_class c WHERE c.oid = 'modes'::regclass
ORDER BY 1, 2
"""
BELONGINGS = """
ALTER TABLE modes ADD gone int;
ALTER TABLE modes DROP gone;
ALTER TABLE modes ADD w bigint GENERATED ALWAYS AS (k * 2) STORED, ADD "Wide one" text COLLATE "C" DEFAULT 'x''y',
  ADD CONSTRAINT positive CHECK (k > 0), ADD CONSTRAINT dishes CHECK (v ~ '^[a-z]'),
  ADD PRIMARY KEY (k), ADD CONSTRAINT "v and k" UNIQUE (v, k);
CREATE INDEX modes_v ON modes (lower(v) DESC) INCLUDE (k) WHERE k < 1000000;
CREATE INDEX twin_a ON modes USING hash (v);
CREATE INDEX twin_b ON modes USING hash (v);
COMMENT ON TABLE modes IS 'what''s cooked';
COMMENT ON COLUMN modes.v IS 'the dish';
COMMENT ON CONSTRAINT positive ON modes IS 'numbers';
ALTER TABLE modes ALTER v SET STORAGE external;
GRANT SELECT ON modes TO PUBLIC;
GRANT SELECT, INSERT ON modes TO pg_monitor WITH GRANT OPTION;
ANALYZE modes
"""


def test_the_other_table_has_all_that_the_first_one_had(writer: Writer) -> None:
    writer.place.sql(BELONGINGS)
    before, was = writer.place.sql(DESCRIBED), place_of(writer)
    result = writer.load(NEW, mode="overwrite")
    assert place_of(writer) != was
    assert writer.place.sql(DESCRIBED) == before
    assert writer.place.sql("SELECT count(*) > 2 FROM pg_stats WHERE tablename = 'modes'") == [(True,)]
    assert writer.rows('k, v, w, "Wide one"') == [(1, "soup", 2, "x'y"), (2, "stew", 4, "x'y")]
    assert (result.rows_before, result.rows_after, result.tally.inserted) == (ROWS, 2, 2)
    assert writer.left_behind() == []
    # and so again, under the same names
    writer.place.sql(f"INSERT INTO modes (k, v) SELECT n, 'old' FROM generate_series(3, {ROWS}) n")
    with pytest.raises(UltravectError, match='unique constraint "modes_pkey"'):
        writer.load([(5, "a"), (5, "b")], mode="overwrite")
    with pytest.raises(UltravectError, match='relation "modes" violates check constraint "dishes"'):
        writer.load([(1, "9")], mode="overwrite")


def test_an_older_snapshot_sees_rows(writer: Writer, stack: Stack) -> None:
    with psycopg.connect(stack.postgres.url("warehouse")) as reader:
        reader.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        reader.execute("SELECT 1")
        writer.load(NEW, mode="overwrite")
        assert reader.execute("SELECT k, v FROM modes ORDER BY k").fetchall() == NEW


def test_who_reads_goes_on_reading(writer: Writer, stack: Stack) -> None:
    was, heard = place_of(writer), Hooked("", lambda: None)
    with psycopg.connect(stack.postgres.url("warehouse")) as reader:
        reader.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        reader.execute("SELECT count(*) FROM modes")
        result = load(writer, heard, NEW, mode="overwrite", count="exact")
        assert reader.execute("SELECT count(*) FROM modes").fetchall() == [(ROWS,)]
    assert (writer.rows(), place_of(writer)) == (NEW, was)
    assert (result.rows_before, result.rows_after) == (ROWS, 2)
    assert any("is being read" in line for line in heard.lines)
    assert writer.left_behind() == []


def test_readers_see_one_content_or_the_other(writer: Writer, stack: Stack) -> None:
    was, ended = place_of(writer), threading.Event()
    contents = [[(key, word) for key in range(ROWS + more)] for more, word in enumerate(("rice", "peas"), 1)]
    seen: set[tuple[Any, ...]] = set()

    def read(level: psycopg.IsolationLevel) -> None:
        with psycopg.connect(stack.postgres.url("warehouse")) as reader:
            reader.isolation_level = level
            while not ended.is_set():
                reader.execute("SELECT 1")
                ended.wait(0.01)  # the snapshot grows older, the table is still free
                seen.update(reader.execute("SELECT count(*), min(v), max(v) FROM modes").fetchall())
                reader.commit()
                ended.wait(0.02)

    levels = (psycopg.IsolationLevel.READ_COMMITTED, psycopg.IsolationLevel.REPEATABLE_READ)
    readers = [threading.Thread(target=read, args=(level,)) for level in levels]
    for item in readers:
        item.start()
    try:
        for number in range(4):
            writer.load(contents[number % 2], mode="overwrite")
    finally:
        ended.set()
        for item in readers:
            item.join()
    assert place_of(writer) != was
    assert len(seen) > 1
    assert seen <= {(ROWS, "old", "old"), (ROWS + 1, "rice", "rice"), (ROWS + 2, "peas", "peas")}


DEPENDING = {
    "nothing": "SELECT 1",
    "view": "CREATE VIEW modes_view AS SELECT v FROM modes",
    "function": "CREATE FUNCTION modes_f(modes) RETURNS int LANGUAGE sql AS 'SELECT 1'",
    "child": "ALTER TABLE modes ADD PRIMARY KEY (k); CREATE TABLE modes_child (k bigint REFERENCES modes)",
    "parent": "CREATE TABLE modes_parent (k bigint PRIMARY KEY); ALTER TABLE modes ADD w bigint REFERENCES modes_parent",
    "heir": "CREATE TABLE modes_heir () INHERITS (modes)",
    "trigger": "CREATE FUNCTION modes_t() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'; "
    "CREATE TRIGGER modes_t AFTER INSERT ON modes EXECUTE FUNCTION modes_t()",
    "event trigger": "CREATE FUNCTION modes_e() RETURNS event_trigger LANGUAGE plpgsql AS 'BEGIN END'; "
    "CREATE EVENT TRIGGER modes_et ON sql_drop EXECUTE FUNCTION modes_e()",
    "identity": "ALTER TABLE modes ADD w bigint GENERATED BY DEFAULT AS IDENTITY",
    "serial": "ALTER TABLE modes ADD w bigserial",
    "column grant": "GRANT SELECT (k) ON modes TO pg_monitor",
    "policy": "ALTER TABLE modes ENABLE ROW LEVEL SECURITY",
    "rule": "CREATE RULE modes_r AS ON DELETE TO modes DO ALSO NOTIFY modes",
    "statistics": "CREATE STATISTICS modes_s ON k, v FROM modes",
    "precision": "ALTER TABLE modes ALTER v SET STATISTICS 500",
    "options": "ALTER TABLE modes SET (fillfactor = 70)",
    "publication": "ALTER TABLE modes ADD PRIMARY KEY (k); CREATE PUBLICATION modes_p FOR TABLE modes",
    "identity of replicas": "ALTER TABLE modes REPLICA IDENTITY FULL",
    "default grants": "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO pg_monitor",
    "cluster": "CREATE INDEX modes_i ON modes (k); ALTER TABLE modes CLUSTER ON modes_i",
    "unlogged": "ALTER TABLE modes SET UNLOGGED",
    "index with an odd name": 'CREATE INDEX "odd USING name" ON modes (v)',
    "member": "CREATE TYPE modes_list AS (one modes)",
}
UNDONE = {
    "publication": "DROP PUBLICATION modes_p",
    "default grants": "ALTER DEFAULT PRIVILEGES REVOKE SELECT ON TABLES FROM pg_monitor",
    "child": "DROP TABLE modes_child",
    "parent": "DROP TABLE modes_parent CASCADE",
    "event trigger": "DROP EVENT TRIGGER modes_et; DROP FUNCTION modes_e()",
    "trigger": "DROP FUNCTION modes_t() CASCADE",
}


@pytest.mark.parametrize("what", DEPENDING)
def test_rows_are_deleted_where_something_would_be_lost(writer: Writer, what: str) -> None:
    try:
        writer.place.sql(DEPENDING[what])
        before, was = writer.place.sql(DESCRIBED), place_of(writer)
        result = writer.load(NEW, mode="overwrite", count="exact")
        assert writer.rows() == NEW
        assert result.rows_before == ROWS
        assert writer.place.sql(DESCRIBED) == before
        assert (place_of(writer) == was) == (what != "nothing")
    finally:
        writer.place.sql(UNDONE.get(what, "SELECT 1"))
        writer.place.sql("DROP TABLE modes CASCADE")


@pytest.mark.parametrize(
    "into", [{"keep_previous": 1}, {"after": ["ANALYZE modes"]}, {"keys": ["k"]}, {"old_rows": "truncate"}]
)
def test_what_a_job_asks_for_can_need_the_old_table(writer: Writer, into: dict[str, Any]) -> None:
    was = place_of(writer)
    writer.load(NEW, mode="overwrite", **into)
    assert (writer.rows(), place_of(writer)) == (NEW, was)


def test_a_load_that_fails_leaves_the_old_rows(writer: Writer) -> None:
    def intrude() -> None:
        assert writer.place.sql("SELECT count(*) FROM modes") == [(ROWS,)]
        raise UltravectError("stopped", "stopped on purpose")

    with pytest.raises(UltravectError, match="on purpose"):
        load(writer, Hooked("publish running", intrude), mode="overwrite")
    assert writer.place.sql("SELECT count(*) FROM modes") == [(ROWS,)]
    assert writer.left_behind() == []
