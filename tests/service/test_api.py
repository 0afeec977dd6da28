"""The REST API: signing in, roles, problems, revisions, idempotency, secrets, its description."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
import uuid
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from devtools.stack import USER, Stack
from tests.conftest import Place

from ultravect.client import ApiError, Client, ServiceUnreachable

JOB = {
    "ultravect": 1,
    "job": "api-job",
    "from": {"connection": "incoming", "files": "x.csv"},
    "into": {"connection": "warehouse", "table": "api_job"},
}


@pytest.fixture
def http(stack: Stack) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=f"{stack.url}/api/v1/", headers={"Authorization": f"Bearer {stack.token}"}) as opened:
        yield opened


def is_problem(response: httpx.Response, status: int, code: str) -> bool:
    body = response.json()
    assert response.headers["Content-Type"] == "application/problem+json"
    assert (response.status_code, body["status"], body["code"]) == (status, status, code), body
    assert body["detail"]
    return True


def test_health_takes_no_sign_in(stack: Stack) -> None:
    until = time.monotonic() + 60  # the worker begins after the service answers
    health: dict[str, Any] = {}
    while not health.get("workers") and time.monotonic() < until:
        health = httpx.get(f"{stack.url}/api/v1/health").json()
        time.sleep(0.2)
    assert (health["status"], health["database"], health["workers"] >= 1) == ("ok", "ok", True)
    live = httpx.get(f"{stack.url}/api/v1/health/live")
    assert (live.status_code, live.json()) == (200, {"status": "ok", "version": health["version"]})


@pytest.mark.parametrize("path", ["jobs", "connections", "runs", "runs/1/events", "kinds", "session"])
@pytest.mark.parametrize("token", [None, "uv_wrong"])
def test_everything_else_does(path: str, token: str | None, stack: Stack) -> None:
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    assert is_problem(httpx.get(f"{stack.url}/api/v1/{path}", headers=headers), 401, "not-signed-in")


def test_a_session_needs_the_password_and_the_csrf_token(stack: Stack) -> None:
    with httpx.Client(base_url=stack.url) as browser:
        browser.get("/")
        token = {"X-CSRFToken": browser.cookies["csrftoken"]}
        wrong = browser.post("/api/v1/session", json={"user": USER, "password": "nope"}, headers=token)
        assert is_problem(wrong, 401, "sign-in-refused")
        good = {"user": USER, "password": stack.password}
        assert browser.post("/api/v1/session", json=good).status_code == 403
        assert browser.post("/api/v1/session", json=good, headers=token).json() == {"name": USER, "role": "admin"}
        assert browser.get("/api/v1/jobs").status_code == 200
        # a session alone may not write: that takes the token that only the page can read
        assert is_problem(browser.post("/api/v1/connections/incoming/test"), 403, "not-allowed")
        fresh = {"X-CSRFToken": browser.cookies["csrftoken"]}
        assert browser.post("/api/v1/connections/incoming/test", headers=fresh).json()["passed"]
        browser.delete("/api/v1/session", headers=fresh)
        assert browser.get("/api/v1/jobs").status_code == 401


def test_tokens_are_shown_once_and_can_be_withdrawn(stack: Stack, http: httpx.Client) -> None:
    issued = http.post("tokens", json={"label": "for a test"}).json()
    assert issued["token"] not in http.get("tokens").text
    stored = stack.postgres.execute("SELECT string_agg(digest, ' ') FROM records_token", "ultravect")[0][0]
    assert issued["token"] not in str(stored)
    with Client(stack.url, token=issued["token"]) as client:
        assert client.me().name == USER
        assert http.delete(f"tokens/{issued['id']}").status_code == 204
        with pytest.raises(ApiError, match="this token is not known"):
            client.me()


ROLES = {
    "viewer": {"see": 200, "ask": 403, "run": 403, "save": 403},
    "operator": {"see": 200, "ask": 200, "run": 404, "save": 403},
    "editor": {"see": 200, "ask": 200, "run": 404, "save": 422},
}


@pytest.mark.parametrize("role", ROLES)
def test_roles(role: str, stack: Stack) -> None:
    name = f"{role}-{uuid.uuid4().hex[:6]}"
    stack._service("user", "add", name, "--role", role, wait=True)
    with Client(stack.url) as client:
        token = client.issue_token(name, stack.password, "t").token
    with httpx.Client(base_url=f"{stack.url}/api/v1/", headers={"Authorization": f"Bearer {token}"}) as http:
        found = {
            "see": http.get("jobs").status_code,
            "ask": http.post("connections/warehouse/ask", json={"sql": "select 1"}).status_code,
            "run": http.post("jobs/no-such-job/runs").status_code,
            "save": http.post("connections", json={}).status_code,
        }
    assert found == ROLES[role]


def test_secrets_never_come_back(stack: Stack, http: httpx.Client) -> None:
    secret = "s3cret-of-the-guest-house"
    settings = dict(stack.warehouse) | {"password": secret}
    answers = [http.post("connections", json={"name": "secretive", "kind": "postgresql", "settings": settings})]
    assert answers[0].json()["secrets_set"] == ["password"]
    answers += [
        http.get("connections/secretive"),
        http.get("connections"),
        http.patch("connections/secretive", json={"settings": {"database": "nowhere"}}),
        http.post("connections/secretive/test"),
        http.get("connections/secretive/objects"),
        http.post("connections/secretive/ask", json={"sql": "select 1"}),
    ]
    assert "wrong-password" in answers[4].text
    assert all(secret not in answer.text for answer in answers)
    stored = stack.postgres.execute("SELECT row_to_json(c)::text FROM records_connection c", "ultravect")
    assert secret not in str(stored)
    assert secret not in (stack.state / "service.log").read_text()
    # changing another setting has kept it: with the right password it works again
    http.patch(
        "connections/secretive", json={"settings": {"password": stack.warehouse["password"], "database": "warehouse"}}
    )
    assert http.post("connections/secretive/test").json()["passed"]
    assert http.delete("connections/secretive").status_code == 204


@pytest.mark.parametrize(
    ("body", "pointer", "message"),
    [
        ({"name": "X y", "kind": "folder", "settings": {"path": "/"}}, "/name", "lower-case letters"),
        ({"name": "x", "kind": "floppy", "settings": {}}, "/kind", "is not a kind of connection"),
        ({"name": "x", "kind": "folder", "settings": {"pth": "/"}}, "/settings/pth", "did you mean 'path'?"),
        ({"name": "x", "kind": "folder", "settings": {}}, "/settings/path", "key 'path' is missing"),
        (
            {
                "name": "x",
                "kind": "postgresql",
                "settings": {"host": "h", "port": 99999, "database": "d", "user": "u"},
            },
            "/settings/port",
            "65535",
        ),
        (
            {"name": "incoming", "kind": "folder", "settings": {"path": "/"}},
            "/name",
            "there is a connection 'incoming' already",
        ),
    ],
)
def test_bad_connections(body: dict[str, object], pointer: str, message: str, http: httpx.Client) -> None:
    response = http.post("connections", json=body)
    assert is_problem(response, 422, "input-invalid")
    (error, *_) = [item for item in response.json()["errors"] if item["pointer"] == pointer]
    assert message in error["message"]


@pytest.mark.parametrize(
    ("kind", "settings", "code", "part"),
    [
        ("folder", {"path": "/etc"}, "folder-outside-roots", "allowed:"),
        ("folder", {"path": "relative"}, "folder-not-absolute", "from / on"),
        ("folder", {"path": "{files}/none"}, "folder-missing", "typing errors"),
        ("folder", {"path": "{files}/../../../etc"}, "folder-outside-roots", "allowed:"),
        ("postgresql", {"host": "no-such-host.invalid"}, "unknown-host", "typing errors"),
        ("postgresql", {"port": 1}, "port-refused", "is the port right?"),
        ("postgresql", {"password": "wrong"}, "wrong-password", "password"),
        ("postgresql", {"database": "nowhere"}, "unknown-database", "typing errors"),
        ("postgresql", {"tls": "required"}, "no-tls", "tls: off"),
    ],
)
def test_connections_that_fail_say_why(
    kind: str, settings: dict[str, object], code: str, part: str, stack: Stack, client: Client
) -> None:
    name = f"c-{uuid.uuid4().hex[:8]}"
    settings = {
        key: str(value).replace("{files}", str(stack.files)) if key == "path" else value
        for key, value in settings.items()
    }
    client.add_connection(name, kind, (dict(stack.warehouse) if kind == "postgresql" else {}) | settings)
    probe = client.test_connection(name)
    assert probe.error is not None
    assert (probe.passed, probe.error["code"]) == (False, code)
    assert part in probe.error["hint"]
    client.remove_connection(name)


def test_connections_that_work_say_what_they_reached(client: Client, stack: Stack) -> None:
    (stack.files / "one.csv").write_text("a\n")
    assert [item.step for item in client.test_connection("incoming").steps] == ["reach", "list", "read"]
    steps = client.test_connection("warehouse").steps
    assert any(
        step.detail.startswith("PostgreSQL 1") and "database warehouse, as user postgres" in step.detail
        for step in steps
    )


def test_a_link_does_not_lead_out(client: Client, stack: Stack) -> None:
    (stack.files / "link.csv").symlink_to("/etc/passwd")
    assert "link.csv" not in [item["name"] for item in client.objects("incoming")["items"]]
    for path in ("link.csv", "../service.log", "/etc/passwd"):
        with pytest.raises(ApiError) as raised:
            client.preview("incoming", path)
        assert raised.value.code == "file-outside-folder"


def test_preview_of_a_file_and_of_a_table(place: Place) -> None:
    place.file('id,code,price\n1,007,1.50\n2,,"x"\n').job()
    seen = place.client.preview("incoming", f"{place.name}.csv")
    assert [(column["name"], column["type"]) for column in seen["columns"]] == [
        ("id", "integer"),
        ("code", "text"),
        ("price", "text"),
    ]
    assert "leading zeros" in seen["columns"][1]["evidence"]
    assert seen["columns"][2]["exceptions"] == [{"row": 2, "value": "x"}]
    assert seen["rows"] == [["1", "007", "1.50"], ["2", None, "x"]]
    place.run()
    table = place.client.preview("warehouse", place.name)
    assert [column["native"] for column in table["columns"]] == ["integer", "text", "text"]
    assert table["rows"] == [[1, "007", "1.50"], [2, None, "x"]]
    with pytest.raises(ApiError) as raised:
        place.client.preview("warehouse", place.name + "x")
    assert place.name in raised.value.hint


@pytest.mark.parametrize(
    ("sql", "code"),
    [
        ("select 1; drop table {t}", "question-refused"),
        ("drop table {t}", "not-a-question"),
        ("copy {t} to program 'true'", "not-a-question"),
        ("with x as (delete from {t} returning 1) select * from x", "read-only"),
        ("select set_config('transaction_read_only', 'off', false)", "database-error"),
        ("select pg_sleep(9)", "time-limit"),
        ("select nothing from nowhere", "question-refused"),
        ("select 1/0", "database-error"),
    ],
)
def test_questions_only_read(sql: str, code: str, place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    with pytest.raises(ApiError) as raised:
        place.client.ask("warehouse", sql.replace("{t}", place.name), seconds=1)
    assert raised.value.code == code
    assert place.exists()


def test_answers_keep_their_values(client: Client) -> None:
    answer = client.ask(
        "warehouse",
        "select 1::bigint << 60 as big, 0.10::numeric, null, 'NaN'::float8, '\\x00ff'::bytea, date '2026-01-02', '{1,2}'::int[]",
    )
    assert answer.rows == [[str(1 << 60), "0.10", None, "nan", "\\x00ff", "2026-01-02", [1, 2]]]
    assert client.ask("warehouse", "select 1 as a where false").columns == ["a"]
    limited = client.ask("warehouse", "select generate_series(1, 5)", limit=2)
    assert (limited.rows, limited.more) == ([[1], [2]], True)


def test_jobs_are_saved_as_revisions(http: httpx.Client) -> None:
    first = http.put("jobs/api-job", json=JOB)
    assert (first.status_code, first.headers["ETag"], first.json()["revision"]) == (201, '"1"', 1)
    changed = JOB | {"about": "changed"}
    assert is_problem(http.put("jobs/api-job", json=changed), 428, "precondition-required")
    second = http.put("jobs/api-job", json=changed, headers={"If-Match": '"1"'})
    assert (second.json()["revision"], second.json()["structure"]["about"]) == (2, "changed")
    assert is_problem(http.put("jobs/api-job", json=JOB, headers={"If-Match": '"1"'}), 412, "job-changed")
    same = http.put("jobs/api-job", json=changed, headers={"If-Match": '"2"'})
    assert same.json()["revision"] == 2
    assert [item["number"] for item in http.get("jobs/api-job/revisions").json()["items"]] == [2, 1]
    assert is_problem(http.put("jobs/other-name", json=JOB), 422, "job-name-differs")
    assert http.delete("jobs/api-job").status_code == 204
    assert is_problem(http.get("jobs/api-job"), 404, "job-unknown")


def test_the_text_of_a_job_is_kept(http: httpx.Client) -> None:
    text = "# kept\n" + "\n".join(
        [
            "ultravect: 1",
            "job: commented",
            "from: {connection: incoming, files: x.csv}",
            "into: {connection: warehouse, table: t}  # here",
        ]
    )
    saved = http.put("jobs/commented", content=text, headers={"Content-Type": "application/yaml"})
    assert saved.json()["file"] == text
    broken = http.put(
        "jobs/commented", content=text.replace("table", "tabel"), headers={"Content-Type": "application/yaml"}
    )
    assert is_problem(broken, 422, "job-file-invalid")
    (error, *_) = [item for item in broken.json()["errors"] if item["pointer"] == "/into/tabel"]
    assert (error["line"], error["hint"]) == (5, "did you mean 'table'?")
    unknown = http.put(
        "jobs/commented", content=text.replace("incoming", "incomming"), headers={"Content-Type": "application/yaml"}
    )
    assert is_problem(unknown, 404, "connection-unknown")
    assert unknown.json()["hint"] == "did you mean 'incoming'?"


def test_an_idempotency_key_starts_one_run(place: Place, http: httpx.Client) -> None:
    place.file("a\n1\n").job()
    key = {"Idempotency-Key": uuid.uuid4().hex}
    first, again = (http.post(f"jobs/{place.name}/runs", headers=key) for _ in range(2))
    assert (first.status_code, again.status_code, again.json()["id"]) == (201, 200, first.json()["id"])
    place.client.wait(first.json()["id"])
    assert len(place.rows()) == 1
    place.job(name=f"{place.name}-b")
    assert is_problem(http.post(f"jobs/{place.name}-b/runs", headers=key), 422, "key-reused")


def test_events_stream_and_are_taken_up_again(place: Place, stack: Stack, http: httpx.Client) -> None:
    place.file("a\n1\n").job()
    run = place.run()
    events = list(place.client.follow(run.id))
    assert [events[0].kind, events[-1].kind] == ["state", "end"]
    assert [event.id for event in place.client.events(run.id)] == [event.id for event in events]
    later = http.get(
        f"runs/{run.id}/events", headers={"Accept": "text/event-stream", "Last-Event-ID": str(events[-2].id)}
    )
    data = [json.loads(line[6:]) for line in later.text.splitlines() if line.startswith("data: ")]
    assert [item["id"] for item in data] == [events[-1].id]


def test_rejects_as_a_file(place: Place, http: httpx.Client) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    place.file("a\n1\nx\n").job(into="rejects: 1")
    run = place.run()
    response = http.get(f"runs/{run.id}/rejects.csv")
    assert response.headers["Content-Type"].startswith("text/csv")
    assert response.text.splitlines()[1] == f"{place.name}.csv,2,3,a,x,not a number,x,"


@pytest.mark.parametrize(
    ("method", "path", "status", "code"),
    [
        ("GET", "nothing", 404, "not-found"),
        ("GET", "jobs/nothing", 404, "job-unknown"),
        ("GET", "runs/999999", 404, "run-unknown"),
        ("GET", "runs/999999/rejects", 404, "run-unknown"),
        ("POST", "runs/999999/stop", 404, "run-unknown"),
        ("GET", "runs?state=odd", 422, "input-invalid"),
        ("GET", "connections/incoming/preview", 422, "input-invalid"),
        ("GET", "connections/incoming/preview?object=x&rows=many", 422, "input-invalid"),
        ("GET", "connections/nothing/objects", 404, "connection-unknown"),
        ("DELETE", "connections/incoming", 409, "connection-in-use"),
        ("POST", "jobs", 405, "method-not-allowed"),
        ("POST", "connections/incoming/ask", 422, "input-invalid"),
    ],
)
def test_problems(method: str, path: str, status: int, code: str, http: httpx.Client, place: Place) -> None:
    place.file("a\n1\n").job()
    assert is_problem(http.request(method, path), status, code)


def test_broken_json_is_a_problem(http: httpx.Client) -> None:
    broken = http.put("jobs/x", content="{", headers={"Content-Type": "application/json"})
    assert is_problem(broken, 400, "parse-error")


def test_lists_are_paged(place: Place, http: httpx.Client) -> None:
    place.file("a\n1\n").job()
    for _ in range(3):
        place.run()
    page = http.get(f"runs?job={place.name}&page_size=2").json()
    assert (len(page["items"]), page["total"], page["pages"]) == (2, 3, 2)
    assert [item["id"] for item in page["items"]] == sorted((item["id"] for item in page["items"]), reverse=True)
    # one that was the last a moment ago
    assert http.get(f"runs?job={place.name}&page=9").json() == {"items": [], "total": 3, "page": 9, "pages": 1}
    assert is_problem(http.get(f"runs?job={place.name}&page=x"), 404, "not-found")


def test_the_api_describes_itself(stack: Stack) -> None:
    description = httpx.get(f"{stack.url}/api/openapi.json", headers={"Accept": "application/json"}).json()
    assert description["openapi"].startswith("3.")
    paths = description["paths"]
    for path in ("/api/v1/jobs/{name}/runs", "/api/v1/runs/{number}/rejects", "/api/v1/connections/{name}/ask"):
        assert path in paths
    viewer = httpx.get(f"{stack.url}/api/docs").text
    assert "http://" not in viewer.replace("http://www.w3.org", "")
    for part in [piece.split('"')[0] for piece in viewer.split('src="')[1:]]:
        assert httpx.get(f"{stack.url}{part}").status_code == 200, part
    schema = httpx.get(f"{stack.url}/api/v1/schemas/job").json()
    assert {"from", "into", "job"} <= set(schema["properties"])


def test_nobody_there(stack: Stack) -> None:
    with Client("http://127.0.0.1:1") as client, pytest.raises(ServiceUnreachable, match=r"http://127\.0\.0\.1:1"):
        client.health()


def test_the_service_needs_its_settings(stack: Stack) -> None:
    environment = {"PATH": os.environ["PATH"], "ULTRAVECT_DATABASE_URL": stack.postgres.url("ultravect")}
    command = [sys.executable, "-m", "ultravect.service", "serve"]
    done = subprocess.run(command, env=environment, capture_output=True, text=True)
    assert (done.returncode, "set ULTRAVECT_KEY" in done.stderr, "Traceback" in done.stderr) == (1, True, False)
    environment |= {"ULTRAVECT_KEY": "k" * 32, "ULTRAVECT_DATABASE_URL": "postgresql://nobody@127.0.0.1:1/x"}
    done = subprocess.run(command, env=environment, capture_output=True, text=True)
    assert (done.returncode, "cannot be reached" in done.stderr, "Traceback" in done.stderr) == (1, True, False)
