"""What comes from outside is read within limits: whatever a file or a body is made of, the service goes on."""

from __future__ import annotations

import threading
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import ApiError, Client

_PARTS = {
    "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/>'
    '<Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/>'
    "</Types>",
    "_rels/.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r" '
    'Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>',
    "xl/workbook.xml": '<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" '
    'xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="s" sheetId="1" r:id="r"/>'
    "</sheets></workbook>",
    "xl/_rels/workbook.xml.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
    '<Relationship Id="r" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" '
    'Target="worksheets/sheet1.xml"/></Relationships>',
    "xl/worksheets/sheet1.xml": '<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">'
    '<dimension ref="A1:XFD1048576"/><sheetData><row r="1"><c r="A1"><v>1</v></c></row>'
    '<row r="1048576"><c r="XFD1048576"><v>2</v></c></row></sheetData></worksheet>',
}  # fmt: skip


def _workbook(path: Path) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as book:
        for name, text in _PARTS.items():
            book.writestr(name, f'<?xml version="1.0"?>{text}')


def _code(call: Callable[[], Any]) -> str:
    """What the API refuses it with, "" where it answers."""
    try:
        call()
    except ApiError as error:
        assert error.status < 500, error  # noqa: PT017 - any answer will do, but this
        return error.code
    return ""


HARMFUL: dict[str, tuple[Callable[[Path], Any], str]] = {
    "sheet.xlsx": (_workbook, "too-large"),
    "deep.json": (lambda path: path.write_text("[" * 100_000 + "]" * 100_000), "json-too-deep"),
    "deeper.json": (lambda path: path.write_text('{"a":' * 50_000 + "1" + "}" * 50_000), "json-too-deep"),
    "deep.jsonl": (lambda path: path.write_text('{"a":' * 50_000 + "1" + "}" * 50_000), "no-rows-found"),
    "deep.xml": (lambda path: path.write_text("<a>" * 50_000 + "</a>" * 50_000), "xml-broken"),
    "entities.xml": (
        lambda path: path.write_text('<!DOCTYPE a [<!ENTITY b "b"><!ENTITY c "&b;&b;&b;&b;">]><a><r>&c;</r></a>'),
        "xml-entities",
    ),
    "exponent.csv": (lambda path: path.write_text("a,b\n1e-999999999,2\n1e999999999,3\n"), ""),
    "exponent.jsonl": (lambda path: path.write_text('{"a": 1.5}\n{"a": 1e-999999999}\n{"a": 1e999999999}\n'), ""),
}


@pytest.mark.parametrize("name", HARMFUL)
def test_a_harmful_file_is_refused_and_the_service_goes_on(name: str, place: Place, client: Client) -> None:
    make, code = HARMFUL[name]
    object_name = f"{place.name}-{name}"
    make(place.stack.files / object_name)
    job = {
        "ultravect": 1,
        "job": place.name,
        "from": {"connection": "incoming", "files": object_name},
        "into": {"connection": "warehouse", "table": place.name},
    }
    text = "".join(f"{key}: {value}\n".replace("'", '"') for key, value in job.items())
    assert _code(lambda: client.preview("incoming", object_name)) == code
    assert _code(lambda: client.check_file(text)) in ("", code)
    client.save_job(place.name, text)
    run = client.wait(client.run(place.name).id)
    assert run.state == ("failed" if code else "succeeded")
    assert client.health()["database"] == "ok"


@pytest.mark.parametrize(
    ("media_type", "body", "status"),
    [
        ("application/yaml", "a: " + "x" * 6_000_000, 413),
        ("application/yaml", "ultravect: 1\ncolumns:\n" + "- a\n" * 60_000, 413),
        ("application/yaml", "a: " + "[" * 100_000, 422),
        ("application/yaml", "a: &a [x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\n"
         "d: &d [*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d]\nf: [*e,*e,*e,*e,*e]\n", 422),
        ("application/json", "[" * 100_000 + "]" * 100_000, 422),
        ("application/json", '{"a": ' + "9" * 5_000 + "}", 400),
        ("application/json", '{"a": "\\u0000"}', 422),
    ],
    ids=["6 MB", "240 kB", "deep", "aliases", "deep JSON", "5,000 digits", "NUL"],
)  # fmt: skip
def test_a_harmful_body_is_refused(media_type: str, body: str, status: int, stack: Stack) -> None:
    headers = {"Authorization": f"Bearer {stack.token}", "Content-Type": media_type}
    answer = httpx.post(f"{stack.url}/api/v1/check", content=body.encode(), headers=headers, timeout=20)
    assert answer.status_code == status
    assert answer.headers["Content-Type"].startswith("application/problem+json")


@pytest.mark.parametrize(
    "address",
    ["connections/incoming/objects?limit=²", "jobs/a%00b", "jobs?search=a%00b", "runs?page=99999999999999999999",
     "runs/99999999999999999999", f"connections/incoming/objects?pattern={'*a' * 60}b"],
)  # fmt: skip
def test_no_address_breaks_the_service(address: str, stack: Stack) -> None:
    answer = httpx.get(f"{stack.url}/api/v1/{address}", headers={"Authorization": f"Bearer {stack.token}"})
    assert answer.status_code < 500


def test_three_thousand_nots_are_an_answer(place: Place, client: Client) -> None:
    place.file("a\n1\n")
    for where in ("not " * 3_000 + "true", "(" * 5_000 + "1" + ")" * 5_000, "1" + "+1" * 5_000):
        source = f"{{connection: incoming, files: {place.name}.csv, where: '{where}'}}"
        text = f"ultravect: 1\njob: x\nfrom: {source}\ninto: {{connection: warehouse, table: {place.name}}}\n"
        assert _code(lambda text=text: client.check_file(text)) in ("", "too-deep")
    assert client.health()["database"] == "ok"


def test_bodies_are_refused_before_they_are_read(stack: Stack) -> None:
    def endless() -> Any:
        for _ in range(10_000):
            yield b"x" * 65_536

    answer = httpx.post(f"{stack.url}/api/v1/tokens", content=endless(), timeout=30)
    assert answer.status_code == 413
    answer = httpx.put(f"{stack.url}/api/v1/uploads/x.csv", content=b"x" * 3_000_000, timeout=30)
    assert answer.status_code == 401


def test_health_is_answered_while_others_are_slow(stack: Stack) -> None:
    """All are refused or answered in the end, and health is answered meanwhile: its order among them is what is looked at."""
    headers = {"Authorization": f"Bearer {stack.token}"}
    done: list[float] = []

    def slow() -> None:
        body = {"sql": "select pg_sleep(20)", "seconds": 6}
        httpx.post(f"{stack.url}/api/v1/connections/warehouse/ask", json=body, headers=headers, timeout=60)
        done.append(time.monotonic())

    def guess() -> None:
        httpx.post(f"{stack.url}/api/v1/tokens", json={"user": "nobody-here", "password": "x"}, timeout=60)

    threads = [threading.Thread(target=slow) for _ in range(20)] + [threading.Thread(target=guess) for _ in range(50)]
    for thread in threads:
        thread.start()
    with httpx.Client(base_url=stack.url) as asking:
        answers = [asking.get("/api/v1/health").json()["database"] for _ in range(10)]
    healthy = time.monotonic()
    for thread in threads:
        thread.join()
    stack.postgres.execute("DELETE FROM records_signinattempt", "ultravect")
    assert answers == ["ok"] * 10
    assert len(done) == 20
    assert healthy < max(done)


def test_a_session_of_the_records_that_ends_is_no_ill_health(stack: Stack) -> None:
    """As it was found: a balancer took the node out of service for it."""
    with httpx.Client(base_url=stack.url) as asking:
        for _ in range(3):
            assert asking.get("/api/v1/health").json()["database"] == "ok"
            ended = stack.postgres.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = 'ultravect' AND state = 'idle' "
                "AND query LIKE '%count(%worker%' AND pid <> pg_backend_pid()"
            )
            assert ended
            answer = asking.get("/api/v1/health")
            # the answer of the moment before, or that of a new session
            assert (answer.status_code, answer.json()["database"]) == (200, "ok")
            time.sleep(0.2)
            assert asking.get("/api/v1/health").json()["database"] == "ok"
