"""Events of OpenLineage: which columns came from which, to an address; lines of a file."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from devtools.stack import temporary_stack
from standins.messages import WebhookCatcher
from tests.conftest import Place
from tests.service.test_schedules import _until

from ultravect.client import Client
from ultravect.service.work.posting import append_line


def test_runs_say_which_columns_came_from_which() -> None:
    server = WebhookCatcher()
    settings = {"ULTRAVECT_LINEAGE": server.url, "ULTRAVECT_LINEAGE_TOKEN": "t0ken"}
    try:
        with temporary_stack("lineage", settings=settings) as stack, Client(stack.url, token=stack.token) as client:
            place = Place(stack, client).file("a,b\n1,2\n")
            place.job(columns="[a integer, a + b as total integer]")
            server.status = 500
            assert place.run().state == "succeeded"
            _until(lambda: "could not be sent" in (stack.state / "service.log").read_text())
            server.status = 200
            assert place.run().state == "succeeded"
            place.job(columns="[missing]")
            place.run()
            _until(lambda: len(server.taken) == 4)
            password, port = stack.warehouse["password"], stack.warehouse["port"]
    finally:
        server.close()
    assert {headers["Authorization"] for headers, _ in server.taken} == {"Bearer t0ken"}
    start, end, *_, failed = server.bodies()
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
    assert str(password) not in json.dumps(server.bodies())


def test_lines_of_several_writers_stay_whole(tmp_path: Path) -> None:
    path = tmp_path / "lineage.jsonl"
    with ThreadPoolExecutor(4) as writers:
        list(writers.map(lambda number: append_line(str(path), str(number).encode() * 5000), range(10, 50)))
    assert sorted(path.read_text().splitlines()) == [str(number) * 5000 for number in range(10, 50)]
