"""A server that is asked only for what is new: the mark is a part of the address."""

from __future__ import annotations

import itertools
import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import duckdb
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.operate.marks import marks_of, reset_mark, set_mark
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job

_runs = itertools.count()


class _Server(ThreadingHTTPServer):
    """Slips with the moment of their last change; only those from ``since`` on are given."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.rows: list[dict[str, Any]] = []
        self.asked: list[str] = []
        threading.Thread(target=self.serve_forever, daemon=True).start()


class _Handler(BaseHTTPRequestHandler):
    server: _Server

    def log_message(self, *_: Any) -> None:
        pass

    def do_GET(self) -> None:
        (since,) = parse_qs(urlsplit(self.path).query)["since"]
        self.server.asked.append(since)
        found = [row for row in self.server.rows if str(row["changed"]) >= since or isinstance(row["changed"], int)]
        data = json.dumps(found).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)


class _Copies:
    def __init__(self, folder: Path, server: _Server) -> None:
        self.server = server
        self.source = ConnectionSpec("agency", "http", {"url": f"http://127.0.0.1:{server.server_address[1]}"})
        self.path = folder / "target.duckdb"
        self.target = ConnectionSpec("target", "duckdb", {"path": str(self.path), "create": True}, [str(folder)])

    def job(self, **changed: Any) -> Job:
        newer = {"by": "changed", "since": "2026-01-01", **changed.pop("newer", {})}
        columns = ["id integer", "changed timestamptz"]
        return job_from_data(
            {
                "ultravect": 1, "job": "slips",
                "from": {
                    "connection": "agency", "files": "slips.json?since={mark}", "newer": newer,
                    "layout": {"format": "json"},
                },
                "columns": columns,
                "into": {"connection": "target", "table": "slip", "mode": "upsert", "keys": ["id"]},
                **changed,
            }
        )  # fmt: skip

    def run(self, **changed: Any) -> Any:
        return run_leg(self.job(**changed), self.source, self.target, Copied(), receipt=f"slips-{next(_runs)}")

    def count(self) -> int:
        with duckdb.connect(str(self.path)) as session:
            ((count,),) = session.execute("SELECT count(*) FROM slip").fetchall()
        return int(count)


@pytest.fixture
def copies(tmp_path: Path) -> Iterator[_Copies]:
    server = _Server()
    yield _Copies(tmp_path, server)
    server.shutdown()
    server.server_close()


def test_each_run_asks_from_the_highest_value(copies: _Copies) -> None:
    rows = copies.server.rows
    rows += [{"id": 1, "changed": "2026-07-01T08:00:00Z"}, {"id": 2, "changed": "2026-07-03T09:30:00.250000Z"}]
    assert copies.run().tally.inserted == 2
    rows.append({"id": 3, "changed": "2026-07-03T09:30:00.250000Z"})
    rows[0]["changed"] = "2026-07-05T00:00:00Z"
    tally = copies.run().tally
    assert (tally.read, tally.inserted, tally.updated, tally.unchanged) == (3, 1, 1, 1)
    # an answer without a row leaves the mark where it is
    kept, copies.server.rows[:] = list(rows), []
    copies.run()
    copies.run()
    assert copies.server.asked[0] == "2026-01-01"
    assert set(copies.server.asked) == {"2026-01-01", "2026-07-03T09:30:00.250000+00:00", "2026-07-05T00:00:00+00:00"}
    (shown,) = marks_of(copies.job(), copies.source, copies.target)
    assert (shown.column, shown.value) == ("changed", "2026-07-05 00:00:00+00:00")
    set_mark(copies.job(), copies.source, copies.target, "", "2026-06-01 00:00:00+00:00")
    copies.server.rows[:] = kept
    assert copies.run().tally.read == 3
    reset_mark(copies.job(), copies.source, copies.target, "")
    copies.server.asked.clear()
    copies.run()
    assert copies.server.asked[0] == "2026-01-01"
    assert copies.count() == 3


def test_numbers_count_as_well(copies: _Copies) -> None:
    copies.server.rows += [{"id": 1, "changed": 7}, {"id": 2, "changed": 12}]
    changed = {"newer": {"since": 0}, "columns": ["id integer", "changed integer"]}
    copies.run(**changed)
    copies.server.asked.clear()
    copies.run(**changed)
    assert set(copies.server.asked) == {"12"}


@pytest.mark.parametrize(
    ("changed", "code"),
    [
        ({"columns": ["id integer"]}, "mark-column-not-copied"),
        ({"columns": ["id integer", "changed text"]}, "mark-column-unordered"),
        ({"into": {"connection": "target", "table": "slip", "mode": "append"}}, "mark-without-keys"),
    ],
)
def test_what_check_finds(copies: _Copies, changed: dict[str, Any], code: str) -> None:
    copies.server.rows.append({"id": 1, "changed": "2026-07-01T08:00:00Z"})
    found = check_job(copies.job(**changed), copies.source, copies.target)
    assert [item.code for item in found.findings if item.severity == "error"] == [code]


@pytest.mark.parametrize(
    ("newer", "said"), [({"since": None}, "goes with"), ({"overlap": "1 min"}, "without overlap")]
)
def test_what_a_job_cannot_ask(copies: _Copies, newer: dict[str, Any], said: str) -> None:
    with pytest.raises(UltravectError) as refused:
        copies.job(newer=newer)
    assert said in refused.value.detail + str(refused.value.where)
