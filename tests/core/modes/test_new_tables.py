"""Tables that are made: with what the source's table had, under names that the target can have, and for any number of columns."""

from __future__ import annotations

from contextlib import nullcontext
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, REAL, Copied, Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import database_of
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

_SOURCE = {
    "postgresql": [
        "CREATE TABLE carried (hut varchar(3), n integer, note varchar(40) DEFAULT 'it''s; -- \\ ok' NOT NULL, "
        "price numeric(8,2) DEFAULT 4.50, open boolean DEFAULT true, made timestamp DEFAULT now(), PRIMARY KEY (hut, n))",
        "COMMENT ON TABLE carried IS 'what''s carried'",
        "COMMENT ON COLUMN carried.note IS 'é \"quoted\" \\ it''s'",
    ],
    "mariadb": [
        "CREATE TABLE carried (hut varchar(3), n integer, note varchar(40) DEFAULT 'it''s; -- \\\\ ok' NOT NULL COMMENT "
        "'é \"quoted\" \\\\ it''s', price decimal(8,2) DEFAULT 4.50, open boolean DEFAULT true, "
        "made datetime DEFAULT now(), PRIMARY KEY (hut, n)) COMMENT 'what''s carried'"
    ],
    "sqlite": [
        "CREATE TABLE carried (hut varchar(3) NOT NULL, n integer NOT NULL, note varchar(40) DEFAULT 'it''s; -- \\ ok' NOT NULL, "
        "price decimal(8,2) DEFAULT 4.50, open boolean DEFAULT true, made timestamp DEFAULT CURRENT_TIMESTAMP, PRIMARY KEY (hut, n))"
    ],
    "sqlserver": [
        "CREATE TABLE carried (hut nvarchar(3), n integer, note nvarchar(40) DEFAULT N'it''s; -- \\ ok' NOT NULL, "
        "price decimal(8,2) DEFAULT 4.50, [open] bit DEFAULT 1, made datetime2(3) DEFAULT SYSDATETIME(), PRIMARY KEY (hut, n))",
        "EXEC sys.sp_addextendedproperty N'MS_Description', N'what''s carried', N'SCHEMA', N'dbo', N'TABLE', N'carried'",
        "EXEC sys.sp_addextendedproperty N'MS_Description', N'é \"quoted\" \\ it''s', N'SCHEMA', N'dbo', N'TABLE', N'carried', "
        "N'COLUMN', N'note'",
    ],
    "duckdb": [
        "CREATE TABLE carried (hut varchar, n integer, note varchar DEFAULT 'it''s; -- \\ ok' NOT NULL, "
        "price decimal(8,2) DEFAULT 4.50, open boolean DEFAULT true, made timestamp DEFAULT now(), PRIMARY KEY (hut, n))",
        "COMMENT ON TABLE carried IS 'what''s carried'",
        "COMMENT ON COLUMN carried.note IS 'é \"quoted\" \\ it''s'",
    ],
}


def job(source: Place, target: Place, table: str, into: str, columns: list[str] | None = None, **more: Any) -> Any:
    return job_from_data(
        {
            "ultravect": 1,
            "job": "made",
            "from": {"connection": source.spec.name, "table": table},
            "columns": columns or ["*"],
            "into": {"connection": target.spec.name, "table": into, **more},
        }
    )


def run(source: Place, target: Place, *arguments: Any, **more: Any) -> tuple[LegResult, Copied]:
    heard = Copied()
    result = run_leg(job(source, target, *arguments, **more), source.spec, target.spec, heard, nullcontext)
    return result, heard


def live(place: Place, table: str) -> LiveTable:
    database = database_of(place.spec)
    found = database.table(database.dialect.parse_table(table))
    assert found is not None
    return found


@pytest.mark.parametrize("target", KINDS)
@pytest.mark.parametrize("source", KINDS)
def test_keys_defaults_and_comments_are_carried_on_request(
    places: dict[str, Place], source: str, target: str
) -> None:
    a, b = places[source], places[target]
    a.drop("carried")
    for statement in _SOURCE[source]:
        a.sql(statement)
    a.sql("INSERT INTO carried (hut, n) VALUES ('007', 1)")
    b.drop("carried_over")
    columns = ["hut text(3)", "* except (hut)"]
    what = ["keys", "required", "defaults", "comments"]
    _, heard = run(a, b, "carried", "carried_over", columns, carry=what)
    made = live(b, "carried_over")
    assert {column.name for column in made.columns if column.key} == {"hut", "n"}
    assert [column.name for column in made.columns if not column.nullable] == ["hut", "n", "note"]
    defaults = {column.name: column.default for column in made.columns}
    assert defaults["note"] == "it's; -- \\ ok"
    assert float(defaults["price"] or 0) == 4.5
    assert defaults["made"] is None
    assert "default-not-carried" in {finding.code for finding in heard.findings}
    b.sql("INSERT INTO carried_over (hut, n) VALUES ('008', 2)")
    (row,) = b.sql("SELECT note, price, open FROM carried_over WHERE n = 2")
    assert (row[0], float(row[1]), bool(row[2])) == ("it's; -- \\ ok", 4.5, True)
    if source != "sqlite" and target != "sqlite":
        assert made.comment == "what's carried"
        assert {column.name: column.comment for column in made.columns}["note"] == 'é "quoted" \\ it\'s'
    # without being asked, nothing is taken over
    b.drop("carried_over")
    run(a, b, "carried", "carried_over")
    plain = live(b, "carried_over")
    assert all(column.nullable and not column.key and not column.has_default for column in plain.columns)


@pytest.mark.parametrize("kind", REAL)
def test_names_that_the_target_cannot_have_are_adapted(places: dict[str, Place], kind: str) -> None:
    source, target = places["postgresql"], places[kind]
    long = "x" * 63
    source.drop("adapted")
    target.drop("adapted_over")
    source.sql(
        f'CREATE TABLE adapted ("Name" integer, "name" integer, "select" integer, "a;b" integer, "{long}" integer)'
    )
    source.sql("INSERT INTO adapted VALUES (1, 2, 3, 4, 5)")
    columns = ["*", f'{long} + 1 as "{"y" * 300}"', '"select" as xmin']
    result, heard = run(source, target, "adapted", "adapted_over", columns)
    names = [column.name for column in live(target, "adapted_over").columns]
    assert len({name.lower() for name in names} if kind != "postgresql" else set(names)) == 6
    assert result.tally.inserted == 1
    adapted = [finding.message for finding in heard.findings if finding.code == "name-adapted"]
    assert ("name_2" in names) == (kind != "postgresql")
    assert ("xmin_" in names) == (kind == "postgresql")
    assert any(name.startswith("yyy") and len(name) < 300 for name in names) == (kind in ("postgresql", "mariadb"))
    assert len(adapted) == {"postgresql": 2, "mariadb": 2}.get(kind, 1)
    assert target.sql("SELECT * FROM adapted_over")[0][:4] == (1, 2, 4, 5)


@pytest.mark.parametrize(
    ("kind", "count"), [("postgresql", 1600), ("duckdb", 1600), ("sqlite", 1600), ("mariadb", 1000)]
)
def test_as_many_columns_as_a_table_can_have(places: dict[str, Place], kind: str, count: int) -> None:
    place = places[kind]
    for table in ("broad", "broad_over"):
        place.drop(table)
    place.sql(f"CREATE TABLE broad ({', '.join(f'c{number} integer' for number in range(count))})")
    place.sql(f"INSERT INTO broad VALUES ({', '.join(map(str, range(count)))})")
    result, _ = run(place, place, "broad", "broad_over")
    assert result.tally.inserted == 1
    assert list(place.sql("SELECT * FROM broad_over")[0]) == list(range(count))


def test_more_columns_than_a_table_can_have_are_refused_in_words(places: dict[str, Place]) -> None:
    duck, postgres = places["duckdb"], places["postgresql"]
    duck.drop("broad")
    duck.sql(f"CREATE TABLE broad ({', '.join(f'c{number} integer' for number in range(1700))})")
    with pytest.raises(UltravectError) as raised:
        run(duck, postgres, "broad", "too_broad")
    assert "at most 1,600" in raised.value.detail
    assert postgres.sql("SELECT to_regclass('too_broad')") == [(None,)]


@pytest.mark.parametrize("kind", KINDS)
def test_an_empty_table_gives_an_empty_table(places: dict[str, Place], kind: str) -> None:
    place = places[kind]
    for table in ("hollow", "hollow_over"):
        place.drop(table)
    place.sql("CREATE TABLE hollow (a integer, b varchar(3))")
    result, _ = run(place, place, "hollow", "hollow_over")
    assert (result.tally.read, result.tally.inserted, result.rows_after, result.created) == (0, 0, 0, True)


def test_a_table_without_columns_is_refused(places: dict[str, Place]) -> None:
    place = places["postgresql"]
    place.drop("bare")
    place.sql("CREATE TABLE bare ()")
    found = check_job(job(place, place, "bare", "bare_over"), place.spec, place.spec)
    assert [finding.code for finding in found.findings if finding.severity == "error"] == ["no-columns"]


_NASTY = st.text(
    st.sampled_from(list("ab';\"`-\\/*%_$ {}[]()\t\n\u00e9\U0001f3d4"))
    | st.characters(exclude_categories=["Cs"], exclude_characters="\0"),
    min_size=1,
    max_size=12,
).filter(lambda name: name.strip() == name and not name.startswith("*"))


@pytest.mark.parametrize("kind", KINDS)
@given(name=_NASTY, column=_NASTY, value=_NASTY)
@settings(max_examples=5, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_no_name_and_no_value_is_taken_for_sql(
    places: dict[str, Place], kind: str, name: str, column: str, value: str
) -> None:
    """Whatever stands in names and values, the table has that name, the column that name, and the row that value."""
    source, place = places["duckdb"], places[kind]
    dialect = database_of(place.spec).dialect
    if dialect.too_long(name) or dialect.spelled(name) != name or column.lower() == "n":
        return
    mark = "`" if kind == "mariadb" else '"'
    table = mark + name.replace(mark, mark * 2).replace("{", "{{").replace("}", "}}") + mark
    quoted = '"' + column.replace('"', '""') + '"'
    literal = "'" + value.replace("'", "''") + "'"
    source.drop("nasty")
    source.sql(f"CREATE TABLE nasty (n integer, {quoted} varchar)")
    source.sql(f"INSERT INTO nasty VALUES (1, {literal}), (2, 'other')")
    plain = dialect.quote(name)
    place.sql(f"DROP TABLE IF EXISTS {plain}")
    into = {"mode": "upsert", "keys": ["n"], "carry": ["comments"]}
    made = job(source, place, "nasty", table, ["n", f"{quoted}"], **into)
    made = made.model_copy(update={"source": made.source.model_copy(update={"where": f"{quoted} = {literal}"})})
    try:
        for wanted in (1, 0):
            result = run_leg(made, source.spec, place.spec, Copied(), nullcontext)
            assert (result.tally.inserted, result.rows_after) == (wanted, 1)
        assert place.sql(f"SELECT * FROM {plain}") == [(1, value)]
    finally:
        place.sql(f"DROP TABLE IF EXISTS {plain}")
