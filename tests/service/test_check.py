"""Check: what it finds before a row moves, and that nothing moves."""

from __future__ import annotations

import pytest
from tests.conftest import Place


def test_a_new_table_is_shown_before_it_is_made(place: Place) -> None:
    place.file("id,when,size\n1,2026-01-01,2.5\n").job()
    check = place.client.check_job(place.name)
    assert (check.passed, check.target_exists, check.rows_tried) == (True, False, 1)
    assert (
        check.ddl
        == f'CREATE TABLE "{place.name}" (\n    "id" integer,\n    "when" date,\n    "size" numeric(18,1)\n)'
    )
    assert not place.exists()


CASES = [
    # the table; the file's header and row; keys of `into`; finding's severity, code, place, parts of message and fix
    (
        "hut_code text",
        "hut_kode\nx",
        "",
        ("error", "column-not-in-target", "columns.0", "column 'hut_kode'", "the nearest is 'hut_code'"),
    ),
    ("a int", "a,b\n1,2", "", ("error", "column-not-in-target", "columns.0", "column 'b'", '"* except (b)"')),
    (
        "a int",
        "a,b\n1,2",
        "if_different: ignore",
        ("warning", "column-not-in-target", "columns.0", "it is left out", ""),
    ),
    ("a int", "a,b\n1,2", "keys: [A]", ("error", "column-not-in-target", "columns.0", "column 'b'", "* except (b)")),
    (
        "a int",
        "a\n1",
        "keys: [b]",
        ("error", "key-column-unknown", "into.keys.0", "'b' is no column", "they bring: a"),
    ),
    (
        "hut int",
        "hut\n1",
        "keys: [huts]",
        ("error", "key-column-unknown", "into.keys.0", "'huts'", "did you mean 'hut'?"),
    ),
    ("a int", "a\n1", "repeats: first", ("note", "setting-unused", "into.repeats", "has no effect", "take it out")),
    (
        "a int, b int NOT NULL",
        "a\n1",
        "",
        ("error", "column-required", "columns", "takes no NULL and has no default", "as b"),
    ),
    ("a int, b int", "a\n1", "", ("note", "column-not-filled", "columns", "gets NULL", "")),
    ("a int, b int DEFAULT 5", "a\n1", "", ("note", "column-not-filled", "columns", "gets its default", "")),
    (
        "a int, b int GENERATED ALWAYS AS (a) STORED",
        "a,b\n1,2",
        "",
        ("error", "column-generated", "columns.0", "generated", "* except (b)"),
    ),
    (
        "a date",
        "a\n01/02/2026",
        "",
        ("error", "date-order-unsure", "columns.0", "no day is above 12", "from.layout.values.dates"),
    ),
    (
        "a int",
        "a\n" + "1\n" * 58 + "x\ny",
        "",
        ("error", "rows-misfit", "into.rejects", "2 of 60 rows do not fit integer", "into.rejects: 2"),
    ),
    ("a int", "a\n1\nx", "rejects: 5", ("warning", "rows-misfit", "into.rejects", "1 of 2 rows", "")),
    (
        "a int, b int",
        "a,b\n1,2\n3",
        "",
        ("error", "rows-misfit", "into.rejects", "1 value where the header has 2 columns", ""),
    ),
    (
        "a int CHECK (a > 0)",
        "a\n" + "1\n" * 30 + "-2",
        "",
        ("error", "rows-misfit", "into.rejects", "1 of 31 rows breaks the check", "into.rejects: 1"),
    ),
    (
        "a int, b int, CHECK (a < b)",
        "a,b\n1,2\n3,1\n5,4",
        "rejects: 2",
        ("warning", "rows-misfit", "into.rejects", "_check of the target: a < b, first row 2 (line 3)", ""),
    ),
    ("a interval", "a\n1 day", "", ("warning", "type-by-database", "columns.0", "parses its text as interval", "")),
    (
        None,
        "a,b\n1,2\n3",
        "",
        ("error", "rows-not-whole", "from.files", "1 row is not whole, first row 2", "layout.ragged: pad"),
    ),
    (
        None,
        "a\n1\n2\nx",
        "",
        ("warning", "mixed-column", "columns.0", "2 whole numbers, 1 other (row 3: 'x')", "`a …`"),
    ),
    (
        None,
        "a\n01/02/2026",
        "",
        ("warning", "date-order-unsure", "columns.0", "it stays text", "DD/MM/YYYY or MM/DD/YYYY"),
    ),
    (
        None,
        "a\n1",
        "if_missing: fail",
        ("error", "table-missing", "into.table", "does not exist", "if_missing: create"),
    ),
    (None, f"{'x' * 64}\n1", "", ("warning", "name-adapted", "columns.0", "longer than the 63 bytes", "as …`")),
    (None, "a\n1\nNA\n3", "", ("warning", "nulls-likely", "from.layout", "'NA' 1 time", 'nulls: ["", "NA"]')),
    (None, "a\n$1\n$2", "", ("warning", "signs-likely", "from.layout", "numbers with $", 'signs: ["$"]')),
    (
        "a int",
        "a\n1\nNA\n3",
        "",
        (
            "error",
            "rows-misfit",
            "into.rejects",
            "1 of 3 rows does not fit integer",
            "layout.values {nulls: ['', NA]}",
        ),
    ),
    (None, "1,2\n3,4", "", ("warning", "header-found", "from.layout", "taken for a row", "layout.header")),
]


# those of which the job file's next text is known
EDITED = {
    ("column-not-in-target", "error"), ("column-generated", "error"), ("rows-misfit", "error"), ("table-missing", "error"),
    ("column-unknown", "error"), ("key-column-unknown", "error"), ("setting-unused", "note"),
    ("function-unknown", "error"), ("parameter-unknown", "error"), ("rows-not-whole", "error"), ("header-found", "warning"),
    ("nulls-likely", "warning"), ("signs-likely", "warning"),
}  # fmt: skip


@pytest.mark.parametrize(("table", "content", "into", "expected"), CASES)
def test_findings(table: str | None, content: str, into: str, expected: tuple[str, ...], place: Place) -> None:
    if table is not None:
        place.sql(f"CREATE TABLE {{t}} ({table})")
    place.file(content).job(into=into)
    check = place.client.check_job(place.name)
    severity, code, where, message, fix = expected
    found = [finding for finding in check.findings if finding.code == code and finding.severity == severity]
    assert found, check.findings
    assert (found[0].place, message in found[0].message, fix in found[0].fix) == (where, True, True), found[0]
    assert check.passed == (severity != "error")
    assert table is None or place.rows() == []
    if found[0].edit:
        lines = place.client.job(place.name).file.splitlines()
        start = found[0].edit.line - 1
        assert lines[start : start + len(found[0].edit.old)] == found[0].edit.old
        lines[start : start + len(found[0].edit.old)] = found[0].edit.new
        mended = place.client.check_file("\n".join(lines))
        assert not [item for item in mended.findings if (item.code, item.severity) == (code, severity)]
    assert bool(found[0].edit) == ((code, severity) in EDITED and "they bring" not in fix)
    # a run comes to the same end as the check foretold
    assert (place.run().state == "succeeded") == check.passed


def test_a_view_and_a_missing_schema(place: Place) -> None:
    place.file("a\n1\n")
    place.sql("CREATE VIEW {t} AS SELECT 1 AS a")
    place.job()
    assert [
        finding.code for finding in place.client.check_job(place.name).findings if finding.severity == "error"
    ] == ["target-is-view"]
    place.client.save_job(place.name, place.job().replace(f"table: {place.name}", "table: nowhere.x"))
    (error,) = [finding for finding in place.client.check_job(place.name).findings if finding.severity == "error"]
    assert (error.code, "there is no schema 'nowhere'" in error.message) == ("table-not-creatable", True)


def test_privileges_are_asked_not_tried(place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    place.sql("CREATE ROLE {t}_reader LOGIN PASSWORD 'reader-of-it'")
    place.sql("GRANT SELECT ON {t} TO {t}_reader")
    settings = dict(place.stack.warehouse) | {"user": f"{place.name}_reader", "password": "reader-of-it"}
    place.client.add_connection(f"{place.name}-reader", "postgresql", settings)
    text = place.file("a\n1\n").job().replace("connection: warehouse", f"connection: {place.name}-reader")
    check = place.client.check_file(text)
    assert [finding.code for finding in check.findings if finding.severity == "error"] == ["privilege-missing"]
    assert "INSERT" in check.findings[0].message
    place.sql("GRANT INSERT ON {t} TO {t}_reader")
    receipts = place.client.check_file(text)
    assert [finding.code for finding in receipts.findings if finding.severity == "error"] == ["receipts-refused"]
    upsert = text.replace(f"table: {place.name}", f"table: {place.name}, mode: upsert, keys: [a]")
    (error,) = [item for item in place.client.check_file(upsert).findings if item.severity == "error"]
    assert (error.code, "needs UPDATE" in error.message) == ("privilege-missing", True)
    new = place.client.check_file(text.replace(f"table: {place.name}", "table: fresh"))
    assert [finding.code for finding in new.findings if finding.severity == "error"] == ["table-not-creatable"]


def test_a_file_can_be_checked_without_saving(place: Place) -> None:
    text = place.file("a\n1\n").job()
    assert place.client.check_file(text.replace(f"job: {place.name}", "job: never-saved")).passed
    assert "never-saved" not in [job.name for job in place.client.jobs().items]


def test_rows_that_cannot_be_computed_are_reported(place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int, b int)")
    place.file("a\n1\n0\n").job(source='where: "10 / a > 1"', columns='[a, "10 / a as b"]', into="rejects: 1")
    (found,) = [finding for finding in place.client.check_job(place.name).findings if finding.code == "rows-misfit"]
    assert found.message.startswith("1 of 2 rows cannot be computed in from.where, first row 2 (line 3)")
    assert place.run().state == "succeeded"


def test_a_run_says_what_the_check_says(place: Place) -> None:
    place.sql("CREATE TABLE {t} (n int, v numeric)")
    place.file("n,v\n1,$5\n").job()
    (found,) = [item for item in place.client.check_job(place.name).findings if item.severity == "error"]
    assert "1 of the first 1 rows fit" in found.fix
    ended = place.run()
    assert (ended.error or {})["hint"] == found.fix
