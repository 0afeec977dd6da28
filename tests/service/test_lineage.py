"""Events of OpenLineage: which columns came from which, into a file and to an address."""

from __future__ import annotations

import json
from pathlib import Path

from devtools.stack import temporary_stack
from standins.messages import WebhookCatcher
from tests.conftest import Place
from tests.service.test_schedules import _until

from ultravect.client import Client


def test_runs_say_which_columns_came_from_which(tmp_path: Path) -> None:
    path = tmp_path / "lineage.jsonl"
    with (
        temporary_stack("lineage", settings={"ULTRAVECT_LINEAGE": str(path)}) as stack,
        Client(stack.url, token=stack.token) as client,
    ):
        place = Place(stack, client).file("a,b\n1,2\n")
        place.job(columns="[a integer, a + b as total integer]")
        first = place.run()
        place.job(columns="[missing]")
        place.run()
        _until(lambda: path.exists() and len(path.read_text().splitlines()) == 4)
        password = stack.warehouse["password"]
        port = stack.warehouse["port"]
    start, end, *_, failed = map(json.loads, path.read_text().splitlines())
    assert [start["eventType"], end["eventType"], failed["eventType"]] == ["START", "COMPLETE", "FAIL"]
    assert start["run"]["runId"] == end["run"]["runId"] != failed["run"]["runId"]
    assert end["job"] == {"namespace": "ultravect", "name": place.name}
    (source,), (target,) = end["inputs"], end["outputs"]
    assert (source["namespace"], source["name"].rpartition("/")[2]) == ("file", f"{place.name}.csv")
    assert (target["namespace"], target["name"]) == (f"postgres://127.0.0.1:{port}", f"warehouse.{place.name}")
    assert [field["name"] for field in source["facets"]["schema"]["fields"]] == ["a", "b"]
    fields = target["facets"]["columnLineage"]["fields"]
    assert {name: [item["field"] for item in found["inputFields"]] for name, found in fields.items()} == {
        "a": ["a"],
        "total": ["a", "b"],
    }
    assert target["outputFacets"]["outputStatistics"]["rowCount"] == 1
    assert "column-unknown" in failed["run"]["facets"]["errorMessage"]["message"]
    assert str(password) not in path.read_text()
    assert first.state == "succeeded"


def test_an_address_is_sent_them(tmp_path: Path) -> None:
    server = WebhookCatcher()
    settings = {"ULTRAVECT_LINEAGE": server.url, "ULTRAVECT_LINEAGE_TOKEN": "t0ken"}
    try:
        with temporary_stack("lineage", settings=settings) as stack, Client(stack.url, token=stack.token) as client:
            place = Place(stack, client).file("a\n1\n")
            place.job()
            server.status = 500
            assert place.run().state == "succeeded"
            _until(lambda: "could not be sent" in (stack.state / "service.log").read_text())
            server.status = 200
            place.run()
            _until(lambda: len(server.taken) == 2)
    finally:
        server.close()
    assert {headers["Authorization"] for headers, _ in server.taken} == {"Bearer t0ken"}
