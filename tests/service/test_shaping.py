"""Jobs that compute, mask and filter: checked, rehearsed, drafted and run through the service."""

from __future__ import annotations

import hashlib

import pytest
from tests.conftest import Place

from ultravect.client import ApiError

CONTENT = "id,hut,nights,price,email,state\n1,001,2,50.25,A@x,open\n2,002,0,40,b@x,draft\n3,007,3,10,,open\n4,040,0,9,c@x,open\n"
COLUMNS = """
  - id
  - hut
  - nights * price as total decimal(10,2)
  - sha256(lower(email)) as guest text(64)
  - round(price / nights, 2) as a_night decimal(10,2)
"""


def test_computed_columns_a_filter_and_rejects(place: Place) -> None:
    place.file(CONTENT).job(source="where: state <> 'draft'", columns=COLUMNS, into="rejects: 1")
    check = place.client.check_job(place.name)
    assert check.passed
    assert [column["type"] for column in check.columns] == [
        "integer",
        "text",
        "decimal(10,2)",
        "text(64)",
        "decimal(10,2)",
    ]

    rehearsal = place.client.rehearse_job(place.name)
    assert [(step.step, step.rows_in, step.rows_out, step.rejected) for step in rehearsal.steps] == [
        ("read", 4, 4, 0),
        ("filter", 4, 3, 0),
        ("shape", 3, 2, 1),
    ]
    first = rehearsal.rows[0]
    assert (first.row, first.before[:3]) == (1, ["1", "001", "2"])
    assert first.after == ["1", "001", "100.5", hashlib.sha256(b"a@x").hexdigest(), "25.13"]
    assert [(reject["row"], reject["column"], reject["reason"]) for reject in rehearsal.rejects] == [
        (4, "a_night", "division by zero")
    ]
    assert (rehearsal.passed, rehearsal.complete) == (True, True)
    assert not place.exists()

    run = place.run()
    tally = run.legs[0].tally
    assert run.state == "succeeded", run.error
    assert (tally["read"], tally["filtered"], tally["rejected"], tally["inserted"]) == (4, 1, 1, 2)
    assert place.sql(f"SELECT id, hut, total::text FROM {place.name} ORDER BY 1") == [
        (1, "001", "100.50"),
        (3, "007", "30.00"),
    ]


@pytest.mark.parametrize(
    ("columns", "code", "at"),
    [
        ("['nights * hut as x']", "expression-type", "columns.0"),
        ("[id, 'lowr(hut) as x']", "function-unknown", "columns.1"),
        ("['lower(hut)']", "column-unnamed", "columns.0"),
        ("['hmac(hut, ''NO_KEY'') as x']", "key-unknown", "columns"),
    ],
)
def test_check_finds_what_is_wrong_with_expressions(place: Place, columns: str, code: str, at: str) -> None:
    place.file(CONTENT).job(columns=columns)
    check = place.client.check_job(place.name)
    assert [(finding.code, finding.place) for finding in check.findings if finding.severity == "error"] == [
        (code, at)
    ]


def test_a_draft_of_a_new_table_and_of_one_that_is_there(place: Place) -> None:
    place.file(CONTENT).job()
    new = place.client.draft("incoming", place.path.name, "warehouse", f"{place.name}_new")
    assert "- hut text" in new
    assert "digits with leading zeros, first in row 1: 001" in new
    assert f'CREATE TABLE "{place.name}_new"' in new
    place.sql(f'CREATE TABLE {place.name} (id int, "Hut" text, spare int, must int NOT NULL)')
    there = place.client.draft("incoming", place.path.name, "warehouse", place.name)
    assert "- hut as Hut" in there
    assert "the names differ in case or marks only" in there
    assert "takes no NULL and has no default" in there
    assert place.client.check_file(new).passed


def test_what_a_draft_needs(place: Place) -> None:
    with pytest.raises(ApiError) as raised:
        place.client.draft("incoming", "no-such.csv", "warehouse", "x")
    assert raised.value.code == "file-missing"


def test_types_translate(place: Place) -> None:
    rows = place.client.types("mariadb", "postgresql")
    assert {row.source for row in rows} == {"mariadb"}
    assert ("bigint(20) unsigned", "decimal(20,0)", "numeric(20,0)", "exact") in {
        (row.native, row.canonical, row.becomes, row.fit) for row in rows
    }
    with pytest.raises(ApiError):
        place.client.types("oracel")


def test_a_run_with_other_parameters(place: Place) -> None:
    text = place.file(CONTENT).job(source="where: id >= :least", columns="[id]")
    place.client.save_job(place.name, text + "parameters: {least: 3}\n")
    run = place.client.wait(place.client.run(place.name, parameters={"least": "4"}).id)
    assert run.legs[0].tally["inserted"] == 1
    assert run.parameters == {"least": 4}
    assert place.run().legs[0].tally["inserted"] == 2
    for wrong, shown in (({"lest": 1}, "has no parameter 'lest'"), ({"least": "x"}, "is a whole number")):
        with pytest.raises(ApiError, match=shown):
            place.client.run(place.name, parameters=wrong)
