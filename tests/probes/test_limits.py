"""What one user sends, or one server answers, keeps no one else waiting, and is never an error of ours."""

from __future__ import annotations

import csv
import io
import json
import threading
import time
from contextlib import suppress
from typing import Any

import httpx
import pytest
from devtools.stack import Stack
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Place
from tests.probes.hostile import Answer, Asked, HttpServer, http_server
from ultravect.client import ApiError, Client
from ultravect.core.layouts.writers.formulas import guarded_text
from ultravect.core.model.document import JOB, LAYOUT, DeclarationError
from ultravect.core.model.edits import with_edits
from ultravect.core.model.problems import MOST_PROBLEMS

HEAD = "ultravect: 1\njob: a\nfrom: {connection: a, files: b}\ninto: {connection: c, table: d}\n"


def _problems(text: str) -> list[Any]:
    with pytest.raises(DeclarationError) as raised:
        JOB.read_text(text)
    return with_edits(raised.value.problems, text)


@pytest.mark.parametrize("count", [700, 12_000])
def test_problems_are_worked_out_for_the_first_ones(count: int) -> None:
    """As it was found: 5.6 kB of unknown keys burnt minutes."""
    found = _problems(HEAD + "".join(f"k{number}: 1\n" for number in range(count)))
    assert len(found) == MOST_PROBLEMS
    assert len(_problems(HEAD + "labels: [" + ", ".join("X" * 9 for _ in range(count)) + "]\n")) == MOST_PROBLEMS
    with pytest.raises(DeclarationError) as raised:
        LAYOUT.read({"format": "delimited", **{f"k{number}": 1 for number in range(count)}})
    assert len(raised.value.problems) == MOST_PROBLEMS
    with pytest.raises(DeclarationError) as raised:
        JOB.read_text(HEAD + "".join(f"k{number}: 1\n" for number in range(count)))
    assert f"and {count - 1:,} more" in raised.value.detail


def _seconds(count: int) -> float:
    options = ", ".join(f"o{number}: {{into: {{mode: append}}}}" for number in range(count))
    text = (
        HEAD.replace("files: b", "tables: ['*']").replace("table: d", "table: 'raw.{table}'")
        + f"objects: {{{options}}}\n"
    )
    started = time.perf_counter()
    JOB.read_text(text)
    return time.perf_counter() - started


def test_many_objects_take_as_long_as_they_are_many() -> None:
    """Twenty times as many, not four hundred times as long: compared with itself."""
    few, many = _seconds(100), _seconds(2_000)
    assert many < 150 * max(few, 0.005)


def test_an_edit_is_still_found_among_a_few_problems() -> None:
    (problem, *_) = _problems(HEAD + "colums: ['*']\n")
    assert problem.edit is not None
    assert problem.edit.new == ("columns: ['*']",)


def test_bad_input_leaves_the_service_answering(stack: Stack, client: Client) -> None:
    bodies = [
        HEAD + "".join(f"k{number}: 1\n" for number in range(9_000)),
        HEAD + "labels: [" + ", ".join("X" for _ in range(30_000)) + "]\n",
        HEAD + "x: " + "[" * 50_000,
        HEAD + "k" * 100_000 + ": 1\n",
    ]
    with httpx.Client(base_url=stack.url, headers={"Authorization": f"Bearer {stack.token}"}, timeout=60) as asking:
        for body in bodies:
            answer = asking.put("/api/v1/jobs/a", content=body.encode(), headers={"Content-Type": "application/yaml"})
            assert answer.status_code == 422, answer.text[:200]
            assert len(answer.json().get("errors") or []) <= MOST_PROBLEMS
        layout = {"format": "delimited", **{f"k{number}": 1 for number in range(20_000)}}
        answer = asking.post("/api/v1/connections/incoming/preview", json={"object": "a.csv", "layout": layout})
        assert answer.status_code == 422
    assert client.health()["database"] == "ok"


def test_slow_questions_of_one_user_leave_places_for_others(stack: Stack, client: Client, place: Place) -> None:
    """As it was found: ten of them, and no one else could look at anything."""
    client.add_user(f"op-{place.name}", "a long password of an operator", "operator")
    with Client(stack.url) as signing_in:
        token = signing_in.issue_token(f"op-{place.name}", "a long password of an operator", "x").token
    codes: list[str] = []

    def ask() -> None:
        with httpx.Client(base_url=stack.url, headers={"Authorization": f"Bearer {token}"}, timeout=90) as asking:
            body = {"sql": "select pg_sleep(8)", "seconds": 9}
            answer = asking.post("/api/v1/connections/warehouse/ask", json=body)
            codes.append(answer.json().get("code", "answered"))

    threads = [threading.Thread(target=ask) for _ in range(16)]
    for thread in threads:
        thread.start()
    time.sleep(1)
    started = time.monotonic()
    assert client.objects("incoming")["items"] is not None
    took = time.monotonic() - started
    for thread in threads:
        thread.join()
    # the slow ones would hold all places for 8 seconds at the least
    assert took < 7
    assert "too-busy" in codes
    assert "answered" in codes


FORMULAS = [
    '=HYPERLINK("http://x","y")',
    "=cmd|' /C calc'!A0",
    "+1+cmd",
    "-2+3+cmd",
    "@SUM(1)",
    "\t=1",
    "\r=1",
    "\n=1",
    "＝1+1",
]


def test_files_for_persons_have_no_live_formulas(stack: Stack, place: Place) -> None:
    held = io.StringIO()
    writer = csv.writer(held)
    writer.writerow(["=cmd|a", "k"])
    writer.writerows([formula, "x"] for formula in FORMULAS)
    place.sql('CREATE TABLE {t} ("=cmd|a" text, k integer)')
    place.file(held.getvalue()).job(
        into=f"rejects: {len(FORMULAS)}", source="layout: {format: delimited, header: true}"
    )
    run = place.run()
    assert run.state == "succeeded", run.error
    with httpx.Client(base_url=stack.url, headers={"Authorization": f"Bearer {stack.token}"}) as asking:
        rows = list(csv.reader(io.StringIO(asking.get(f"/api/v1/runs/{run.id}/rejects.csv").text, newline="")))
        exact = [json.loads(line) for line in asking.get(f"/api/v1/runs/{run.id}/rejects.jsonl").text.splitlines()]
    assert len(rows) == 1 + len(FORMULAS)
    for row in rows:
        for cell in row:
            assert cell == guarded_text(cell), cell
    # what programs read is as it was
    assert any(item["record"].startswith("=") for item in exact)


@given(st.text(max_size=12))
def test_a_text_is_guarded_where_a_spreadsheet_would_compute_it(text: str) -> None:
    found = guarded_text(text)
    assert found in (text, f"'{text}")
    assert not found.startswith(("=", "@", "\t", "\r", "\n", "\uff1d"))
    if text[:1] not in ("=", "+", "-", "@", "\t", "\r", "\n", "\uff1d", "\uff0b", "\uff0d", "\uff20"):
        assert found == text


def _look(client: Client, name: str, path: str) -> ApiError | None:
    found = None
    try:
        client.preview(name, path)
    except ApiError as error:
        found = error
    assert found is None or found.status < 500, found
    return found


@pytest.mark.parametrize(
    "link", ["http://x\r\nX: 1", "a\nb", "//[", "http://[::1", "\x00", "http://127.0.0.1:99999999/", "x" * 70_000]
)
@pytest.mark.parametrize("by", ["next_link", "link_header", "redirect"])
def test_odd_addresses_that_a_server_names_are_errors_that_say_so(
    client: Client, place: Place, link: str, by: str
) -> None:
    def answer(_: HttpServer, asked: Asked) -> Answer:
        header = link.replace("\r", "").replace("\n", "").replace("\x00", "")[:3_000]
        if by == "redirect":
            return 302, {"Location": header}, b""
        more = {"Link": f'<{header}>; rel="next"'} if by == "link_header" else {}
        body = json.dumps({"items": [{"a": 1}], "next": link}) if by == "next_link" else '[{"a": 1}]'
        return 200, {"Content-Type": "application/json", **more}, body.encode()

    with http_server(answer) as server:
        pages = (
            {"pages": by, "rows_at": "items", "page_field": "next"}
            if by == "next_link"
            else {"pages": by}
            if by == "link_header"
            else {}
        )
        client.add_connection(place.name, "http", {"url": f"{server.url}/a", "paths": ["x"], **pages})
        _look(client, place.name, "x")
    client.remove_connection(place.name)


@pytest.mark.parametrize("status", [300, 301, 304, 307, 399])
def test_a_redirect_to_nowhere_is_an_error_that_says_so(client: Client, place: Place, status: int) -> None:
    with http_server(lambda *_: (status, {}, b"")) as server:
        client.add_connection(place.name, "http", {"url": f"{server.url}/a", "paths": ["x"]})
        assert _look(client, place.name, "x") is not None
    client.remove_connection(place.name)


def test_a_redirect_out_of_the_base_path_gets_no_token(client: Client, place: Place) -> None:
    def answer(_: HttpServer, asked: Asked) -> Answer:
        if asked.path.startswith("/in/x"):
            return 302, {"Location": "/out/y"}, b""
        return 200, {"Content-Type": "text/csv"}, b"a\n1\n"

    with http_server(answer) as server:
        client.add_connection(
            place.name, "http", {"url": f"{server.url}/in", "token": "hut-token-1234", "paths": ["x"]}
        )
        _look(client, place.name, "x")
        sent = {asked.path: asked.headers.get("authorization") for asked in server.asked}
    assert sent["/in/x"] == "Bearer hut-token-1234"
    assert sent["/out/y"] is None


_LISTED = b"""<?xml version="1.0"?><ListBucketResult><IsTruncated>false</IsTruncated>%s</ListBucketResult>"""


@pytest.mark.parametrize("lacking", ["ETag", "Last-Modified", "all"])
def test_an_object_store_that_leaves_headers_out(client: Client, place: Place, lacking: str) -> None:
    body = b"a\n1\n"

    def answer(_: HttpServer, asked: Asked) -> Answer:
        if "list-type" in asked.path:
            return 200, {}, _LISTED % b"<Contents><Key>x.csv</Key></Contents><Contents><Size>1</Size></Contents>"
        headers = {"ETag": '"1"', "Last-Modified": "Tue, 01 Dec 2026 00:00:00 GMT"}
        return 200, {key: value for key, value in headers.items() if lacking not in (key, "all")}, body

    with http_server(answer) as server:
        settings = {"bucket": "huts", "endpoint": server.url, "access_key": "a", "secret_key": "secret-key"}
        client.add_connection(place.name, "objectstore", settings)
        assert _look(client, place.name, "x.csv") is None
        assert [item["name"] for item in client.objects(place.name)["items"]] == ["x.csv"]
    client.remove_connection(place.name)


@given(data=st.data())
def test_damaged_workbooks_are_said_to_be_damaged(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    """Through what previews call: any byte may be another one, and any part may be missing."""
    import zipfile

    from openpyxl import Workbook

    from ultravect.core.engine.look.browse import Wanted, preview
    from ultravect.core.engine.objects.connections import ConnectionSpec
    from ultravect.core.errors import UltravectError

    book, held = Workbook(), io.BytesIO()
    for number in range(9):
        book.active.append([f"t{number}", number, 2.5, None, True])
    book.save(held)
    parts = {item.filename: zipfile.ZipFile(held).read(item) for item in zipfile.ZipFile(held).infolist()}
    name = data.draw(st.sampled_from(sorted(parts)))
    whole = bytearray(parts[name])
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(whole) - 1)) if whole else 0
        piece = data.draw(
            st.sampled_from([b"<", b"&", b'"', b"\0", b"99999999999", b"-1", b"", b'r="ZZZZZ9"', b"</row>"])
        )
        whole[at : at + data.draw(st.integers(0, 9))] = piece
    parts[name] = bytes(whole)
    if data.draw(st.booleans()):
        parts.pop(data.draw(st.sampled_from(sorted(parts))))
    folder = tmp_path_factory.mktemp("books")
    with zipfile.ZipFile(folder / "x.xlsx", "w") as archive:
        for part, content in parts.items():
            archive.writestr(part, content)
    spec = ConnectionSpec("here", "folder", {"path": str(folder)}, [str(folder)])
    # anything else that is raised is a failure
    with suppress(UltravectError):
        preview(spec, "x.xlsx", Wanted(5, False, False, True))
