"""What becomes of the target itself: created with keys, widened, rebuilt, or left alone, as the job says."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import KINDS, Place
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError


@pytest.fixture
def writer(places: dict[str, Place], tmp_path: Path, kind: str) -> Writer:
    place = places[kind]
    for table in ("modes", "seen"):
        place.drop(table)
    return Writer(place, tmp_path)


def codes(writer: Writer) -> list[str]:
    return [finding.code for finding in writer.heard.findings]


@pytest.mark.parametrize("kind", KINDS)
def test_a_table_is_widened_by_new_columns_and_larger_types(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k smallint NOT NULL, v varchar(20) DEFAULT 'none', price decimal(6,2))")
    writer.place.sql("INSERT INTO modes VALUES (1, 'soup', 4.50)")
    rows = [(2, "stew", "12345.678", "2026-07-01"), (70_000, "cake", "1.00", "")]
    names = ("k", "v", "price", "served")
    into: dict[str, Any] = {"mode": "upsert", "keys": ["k"], "if_different": "widen"}
    if writer.place.kind == "sqlite":
        # its declared types cannot change, and take any number anyway
        writer.place.drop("modes")
        writer.place.sql("CREATE TABLE modes (k integer NOT NULL, v varchar(20) DEFAULT 'none', price decimal(12,3))")
        writer.place.sql("INSERT INTO modes VALUES (1, 'soup', 4.50)")
    check = writer.check(rows, names, **into)
    assert check.passed
    assert check.ddl is not None
    assert "served" in check.ddl
    result = writer.load(rows, names, **into)
    assert (result.tally.inserted, result.rows_after) == (2, 3)
    wanted = ["column-added"] + ([] if writer.place.kind == "sqlite" else ["type-enlarged", "type-enlarged"])
    assert sorted(code for code in codes(writer) if code in ("column-added", "type-enlarged")) == wanted
    found = [tuple(map(str, row)) for row in writer.rows("k, price, served")]
    assert [row[0] for row in found] == ["1", "2", "70000"]
    assert float(found[1][1]) == pytest.approx(12345.678, abs=1e-9)
    assert [row[2] for row in found] == ["None", "2026-07-01", "None"]
    # what the table had stays: its default, and what takes no NULL
    writer.place.sql("INSERT INTO modes (k) VALUES (5)")
    assert ("none",) in writer.place.sql("SELECT v FROM modes WHERE k = 5")
    with pytest.raises(Exception, match=r"(?i)null"):
        writer.place.sql("INSERT INTO modes (k) VALUES (NULL)")


@pytest.mark.parametrize("kind", KINDS)
def test_a_table_is_never_changed_unless_the_job_says_so(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer)")
    with pytest.raises(UltravectError) as raised:
        writer.load([(1, "soup")])
    assert raised.value.code == "column-not-in-target"
    assert writer.load([(1, "soup")], if_different="ignore").tally.inserted == 1
    assert writer.place.sql("SELECT * FROM modes") == [(1,)]


@pytest.mark.parametrize("kind", KINDS)
def test_a_rebuilt_table_has_new_columns_and_keeps_what_remains(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k varchar(20), v varchar(20), gone integer)")
    writer.place.sql("INSERT INTO modes VALUES ('x', 'old', 1)")
    if writer.place.kind == "postgresql":
        writer.place.sql("CREATE INDEX modes_v ON modes (v)")
        writer.place.sql("COMMENT ON COLUMN modes.v IS 'what was eaten'")
        writer.place.sql("GRANT SELECT ON modes TO PUBLIC")
    into: dict[str, Any] = {"mode": "overwrite", "if_different": "rebuild", "keys": ["k"]}
    result = writer.load([(1, "soup"), (2, "stew"), (2, "cake")], **into)
    assert (result.tally.inserted, result.tally.repeated, result.rows_before, result.rows_after) == (2, 1, 1, 2)
    assert "table-rebuilt" in codes(writer)
    assert writer.place.sql("SELECT * FROM modes ORDER BY 1") == [(1, "soup"), (2, "cake")]
    if writer.place.kind == "postgresql":
        shown = writer.place.sql(
            "SELECT has_table_privilege('public', 'modes', 'SELECT'), to_regclass('modes_v') IS NOT NULL, "
            "col_description('modes'::regclass, 2), (SELECT count(*) FROM pg_index WHERE indrelid = 'modes'::regclass)"
        )
        assert shown == [(True, True, "what was eaten", 2)]
    # a second time nothing differs, and the table is overwritten as it is
    assert writer.load([(7, "tart")], **into).tally.inserted == 1
    assert "table-rebuilt" not in codes(writer)
    assert writer.rows() == [(7, "tart")]
    assert writer.left_behind() == []


@pytest.mark.parametrize("kind", KINDS)
def test_statements_before_and_after_are_part_of_the_load(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer, v varchar(20))")
    writer.place.sql("CREATE TABLE seen (what varchar(20), count_then integer)")
    note = "INSERT INTO seen SELECT '{}', count(*) FROM modes"
    into: dict[str, Any] = {"before": [note.format("before")], "after": [note.format("after")]}
    writer.load([(1, "soup"), (2, "stew")], **into)
    assert sorted(writer.place.sql("SELECT * FROM seen")) == [("after", 2), ("before", 0)]
    with pytest.raises(UltravectError):
        writer.load([(3, "cake")], **{**into, "after": ["INSERT INTO nowhere VALUES (1)"]})
    assert len(writer.place.sql("SELECT * FROM seen")) == 2
    assert len(writer.rows()) == 2


@pytest.mark.parametrize("kind", KINDS)
def test_only_into_an_empty_table(writer: Writer) -> None:
    assert writer.load([(1, "soup")], only_if_empty=True).created
    with pytest.raises(UltravectError) as raised:
        writer.load([(2, "stew")], only_if_empty=True)
    assert raised.value.code == "target-not-empty"
    assert "holds 1 row," in raised.value.detail
    assert writer.rows() == [(1, "soup")]


@pytest.mark.parametrize("kind", KINDS)
def test_keys_that_the_target_takes_for_the_same(writer: Writer) -> None:
    """By the target's own equality: case does not keep keys apart in MariaDB and SQL Server, nor where NOCASE says so."""
    collation = " COLLATE NOCASE" if writer.place.kind == "sqlite" else ""
    writer.place.sql(f"CREATE TABLE modes (k varchar(20){collation}, v varchar(20))")
    writer.place.sql("INSERT INTO modes VALUES ('A', 'old')")
    folds = writer.place.kind in ("mariadb", "sqlite", "sqlserver")
    result = writer.load([("a", "new")], mode="upsert", keys=["k"])
    assert (result.tally.updated, result.tally.inserted) == ((1, 0) if folds else (0, 1))
    assert len(writer.rows()) == (1 if folds else 2)


@pytest.mark.parametrize("kind", KINDS)
def test_many_key_columns_of_many_types(writer: Writer) -> None:
    names = ("hut", "day", "price", "v")
    keys = ["hut", "day", "price"]
    columns = ["hut text(20)", "day date", "price decimal(8,2)", "v"]
    first = [
        ("007", "2026-07-01", "1.50", "a"),
        ("007", "2026-07-02", "1.50", "b"),
        ("008", "2026-07-01", "1.50", "c"),
    ]
    assert writer.load(first, names, mode="upsert", keys=keys, columns=columns).created
    second = [
        ("007", "2026-07-01", "1.50", "A"),
        ("007", "2026-07-02", "1.5", "b"),
        ("007", "2026-07-02", "1.51", "d"),
    ]
    tally = writer.load(second, names, mode="upsert", keys=keys, columns=columns).tally
    assert (tally.inserted, tally.updated, tally.unchanged) == (1, 1, 1)
    assert [row[3] for row in writer.rows("hut, day, price, v")] == ["A", "b", "d", "c"]


@pytest.mark.parametrize("kind", KINDS)
def test_what_check_says_of_keys(writer: Writer) -> None:
    def summary(**into: Any) -> dict[str, str]:
        return {finding.code: finding.severity for finding in writer.check([(1, "soup")], **into).findings}

    assert "key-column-unknown" in summary(mode="upsert", keys=["kk"])
    assert summary(repeats="first")["setting-unused"] == "note"
    writer.place.sql("CREATE TABLE modes (k integer, v varchar(20))")
    assert summary(mode="upsert", keys=["k"])["key-without-index"] == "warning"
    writer.place.sql("INSERT INTO modes VALUES (1, 'a'), (1, 'b')")
    assert summary(mode="upsert", keys=["k"], count="exact")["key-not-unique"] == "error"
    # finding it takes reading the whole table, which a job has to ask for
    assert "key-not-unique" not in summary(mode="upsert", keys=["k"])
    writer.place.sql("DELETE FROM modes WHERE v = 'b'")
    writer.place.sql("CREATE UNIQUE INDEX modes_k ON modes (k)")
    assert "key-not-unique" not in summary(mode="upsert", keys=["k"], count="exact")
    if writer.place.kind != "duckdb":  # which says about constraints only
        assert "key-without-index" not in summary(mode="upsert", keys=["k"])


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(
    ("statement", "code", "severity"),
    [
        ("UPDATE modes SET v = 'seen' WHERE k < 0", None, ""),
        ("SELEC 1", "statement-refused", "error"),
        ("UPDATE nowhere SET v = 1", "statement-unsure", "warning"),
        ("DELETE FROM modes; DELETE FROM modes", "statement-refused", "error"),
        ("/* done */ COMMIT", "statement-ends-load", "error"),
        ("CREATE TABLE seen (k integer)", "statement-commits", "warning"),
    ],
)
def test_statements_are_parsed_by_the_target_and_not_executed(
    writer: Writer, statement: str, code: str | None, severity: str
) -> None:
    writer.place.sql("CREATE TABLE modes (k integer, v varchar(20))")
    check = writer.check([(1, "soup")], before=[statement])
    found = [finding for finding in check.findings if finding.code.startswith("statement-")]
    if code == "statement-commits" and writer.place.kind != "mariadb":
        code = None
    assert [(item.code, item.severity, item.place) for item in found] == (
        [(code, severity, "into.before.0")] if code else []
    )
    assert writer.place.sql("SELECT count(*) FROM modes") == [(0,)]
    if code == "statement-ends-load":
        with pytest.raises(UltravectError) as raised:
            writer.load([(1, "soup")], before=[statement])
        assert raised.value.code == "statement-ends-load"


@pytest.mark.parametrize("kind", ["postgresql"])
def test_what_depends_on_a_table_is_named_before_it_is_rebuilt(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer PRIMARY KEY)")
    writer.place.sql("CREATE VIEW seen_modes AS SELECT k FROM modes")
    writer.place.sql("CREATE TABLE seen (k integer CONSTRAINT seen_key REFERENCES modes)")
    try:
        check = writer.check([(1, "soup")], mode="overwrite", if_different="rebuild")
        (found,) = [finding for finding in check.findings if finding.code == "target-depended-on"]
        assert "view seen_modes, foreign key seen_key of seen depend on it" in found.message
        assert writer.check([(1,)], ["k"], mode="overwrite", if_different="rebuild", columns=["k integer"]).passed
    finally:
        writer.place.sql("DROP VIEW seen_modes")
        writer.place.sql("DROP TABLE seen")


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_a_text_of_a_file_is_given_room_where_all_of_the_file_was_read(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer, v varchar(4))")
    writer.load([(1, "soup"), (2, "stew")], if_different="widen")
    assert codes(writer).count("type-enlarged") == 0
    result = writer.load([(3, "soup of the day"), (4, "é" * 20)], if_different="widen")
    assert (result.tally.inserted, codes(writer).count("type-enlarged")) == (2, 1)
    assert writer.rows()[-1] == (4, "é" * 20)
    with pytest.raises(Exception, match=r"(?i)too long"):
        writer.place.sql("INSERT INTO modes VALUES (5, repeat('x', 21))")
