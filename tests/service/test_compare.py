"""Comparing through the service: its API, its client and the command line."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import httpx
import pytest
from tests.conftest import Place

from ultravect.client import ApiError

PROGRAM = str(Path(sys.executable).parent / "ultravect")


def _command(place: Place, *arguments: str, code: int) -> str:
    environment = os.environ | {
        "ULTRAVECT_URL": place.stack.url,
        "ULTRAVECT_TOKEN": place.stack.token,
        "COLUMNS": "160",
    }
    done = subprocess.run([PROGRAM, "compare", *arguments], env=environment, capture_output=True, text=True)
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


@pytest.fixture
def loaded(place: Place) -> Place:
    place.file("id,beds,note\n1,10,a\n2,20,b\n3,30,\n").job(into="mode: upsert, keys: [id]")
    assert place.run().state == "succeeded"
    return place


def test_a_load_leaves_both_sides_equal_and_what_others_change_is_found(loaded: Place) -> None:
    client, name = loaded.client, loaded.name
    same = client.compare_job(name, settle_seconds=0)
    assert (same.equal, same.rows_source, same.rows_target, same.keys) == (True, 3, 3, ["id"])
    assert "equal" in _command(loaded, name, "--settle", "0", code=0)
    loaded.sql("UPDATE {t} SET beds = 21 WHERE id = 2")
    loaded.sql("DELETE FROM {t} WHERE id = 3")
    loaded.sql("INSERT INTO {t} VALUES (4, 40, NULL)")
    found = client.compare_job(name, settle_seconds=0)
    assert (found.equal, found.only_source, found.only_target, found.different) == (False, 1, 1, 1)
    assert [(row.where, row.keys["id"]) for row in found.differences] == [
        ("both", "2"),
        ("source", "3"),
        ("target", "4"),
    ]
    assert (found.differences[0].values["beds"].source, found.differences[0].values["beds"].target) == ("20", "21")
    said = _command(loaded, name, "--settle", "0", code=1)
    assert "1 only in the source, 1 only in the target, 1 different" in said
    assert "by id" in said
    some = json.loads(
        _command(loaded, name, "--settle", "0", "--where", "id < 3", "--columns", "note", "--json", code=0)
    )
    assert (some["equal"], some["columns"], some["rows_source"]) == (True, ["id", "note"], 2)


def test_two_objects(loaded: Place) -> None:
    file, table = ("incoming", f"{loaded.name}.csv"), ("warehouse", loaded.name)
    assert loaded.client.compare(file, table, keys=["id"], settle_seconds=0).equal
    said = _command(loaded, ":".join(file), ":".join(table), "--keys", "id", "--settle", "0", code=0)
    assert "3 rows in the source, 3 in the target, compared by id" in said
    assert "CONNECTION:OBJECT" in _command(loaded, ":".join(file), code=2)
    assert "CONNECTION:OBJECT" in _command(loaded, "nonsense", ":".join(table), code=2)


def test_what_is_wrong_is_said(loaded: Place) -> None:
    client = loaded.client
    with pytest.raises(ApiError) as error:
        client.compare_job(loaded.name, keys=["ids"])
    assert (error.value.code, "did you mean 'id'" in error.value.hint) == ("column-unknown", True)
    with pytest.raises(ApiError) as error:
        client.compare_job("no-such-job")
    assert error.value.status == 404
    headers = {"Authorization": f"Bearer {loaded.stack.token}"}
    url = f"{loaded.stack.url}/api/v1/jobs/{loaded.name}/compare"
    for body in ({"settle_seconds": -1}, {"keys": "id"}, {"where": {"a": 1}}):
        assert httpx.post(url, json=body, headers=headers).status_code == 422
    viewer = client.make_token("looks", role="viewer").token
    assert httpx.post(url, json={}, headers={"Authorization": f"Bearer {viewer}"}).status_code == 403


@pytest.mark.parametrize(
    ("into", "left"),
    [
        ("mode: upsert, keys: [id], gone: delete, gone_limit: 100%", [1, 2, 3]),
        ("mode: upsert, keys: [id]", [1, 2, 3, 4]),
        ("mode: overwrite, keys: [id]", [1, 2, 3]),
        ("mode: append, keys: [id]", [1, 2, 3, 4]),
    ],
)
def test_repair_loads_the_rows_that_differ_and_no_others(place: Place, into: str, left: list[int]) -> None:
    place.file("id,beds,note\n1,10,a\n2,20,b\n3,30,\n").job(into=into)
    assert place.run().state == "succeeded"
    said = _command(place, place.name, "--repair", "--settle", "0", code=0)
    assert "equal" in said, "and nothing is run"
    assert place.client.runs(job=place.name).total == 1
    place.sql("UPDATE {t} SET beds = 21 WHERE id = 2")
    place.sql("DELETE FROM {t} WHERE id = 3")
    place.sql("INSERT INTO {t} VALUES (4, 40, NULL)")
    said = _command(place, place.name, "--repair", "--settle", "0", code=0)
    assert "1 different" in said
    newest = place.client.runs(job=place.name).items[0]
    run = place.client.show(newest.id)
    assert (run.kind, run.legs[0].tally["inserted"], run.legs[0].tally["updated"]) == ("repair", 1, 1)
    assert [row[0] for row in place.sql("SELECT id FROM {t} ORDER BY id")] == left
    assert place.client.compare_job(place.name, settle_seconds=0).only_source == 0
    with pytest.raises(ApiError) as refused:
        place.client.compare_job(place.name, where="id = 1", repair=True)
    assert refused.value.status == 422
    assert "--where" in _command(place, place.name, "--repair", "--where", "id = 1", code=2)
