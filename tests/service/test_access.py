"""Who gets in and what is kept of it: sign-ins, tokens, users, the audit log, and secrets of places that move."""

from __future__ import annotations

import base64
import hashlib
import json
import subprocess
import sys
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from devtools.stack import USER, Stack
from tests.conftest import Place

from ultravect.client import ApiError, Client

PASSWORD = "granite-ridge-at-dawn"


@pytest.fixture
def member(client: Client) -> Iterator[str]:
    name = f"member-{uuid.uuid4().hex[:8]}"
    client.add_user(name, PASSWORD, "editor")
    yield name
    client.change_user(name, active=False)


def refused(status: int, code: str, call: Any) -> ApiError:
    with pytest.raises(ApiError) as raised:
        call()
    assert (raised.value.status, raised.value.code) == (status, code)
    return raised.value


def test_a_token_may_do_less_than_its_owner_and_ends(stack: Stack, client: Client, member: str, place: Place) -> None:
    place.file("a\n1\n").job()
    with Client(stack.url) as anonymous:
        own = anonymous.issue_token(member, PASSWORD, "all").token
    with Client(stack.url, token=own) as editor:
        narrow = editor.make_token("looks only", role="viewer", days=3)
        refused(403, "not-allowed", lambda: editor.make_token("more", role="admin"))
        (listed,) = [token for token in editor.tokens() if token.id == narrow.id]
        assert (listed.role, listed.owner, listed.expires_at is not None) == ("viewer", member, True)
        with Client(stack.url, token=narrow.token) as viewer:
            assert viewer.job(place.name).name == place.name
            refused(403, "not-allowed", lambda: viewer.run(place.name))
            # nor can it make one that may do more than itself
            refused(403, "not-allowed", lambda: viewer.make_token("wider", role="editor"))
            assert viewer.make_token("as wide").token
        stack.postgres.execute(
            f"UPDATE records_token SET expires_at = now() - interval '1 s' WHERE id = {narrow.id}", "ultravect"
        )
        with Client(stack.url, token=narrow.token) as late:
            refused(401, "not-signed-in", late.me)
        editor.withdraw_token(narrow.id)
        refused(404, "token-unknown", lambda: editor.withdraw_token(narrow.id))
    assert any(token.owner == member for token in client.tokens(of_all=True))


def test_users_are_changed_by_admins_and_the_last_one_stays(stack: Stack, client: Client, member: str) -> None:
    for weak in ("short", "1234567890123", "password123"):
        refused(422, "password-weak", lambda weak=weak: client.add_user(f"x{uuid.uuid4().hex[:6]}", weak, "viewer"))
    refused(409, "user-exists", lambda: client.add_user(member, PASSWORD, "viewer"))
    with Client(stack.url) as anonymous:
        token = anonymous.issue_token(member, PASSWORD, "t").token
    with Client(stack.url, token=token) as editor:
        refused(403, "not-allowed", editor.users)
        refused(403, "not-allowed", lambda: editor.audit())
        refused(403, "not-allowed", lambda: editor.change_user(member, role="admin"))
        client.change_user(member, password="another-ridge-at-dusk")
        refused(401, "not-signed-in", editor.me)
    admins = [user.name for user in client.users() if user.role == "admin" and user.active]
    assert admins == [USER]
    refused(409, "last-admin", lambda: client.change_user(USER, role="viewer"))
    refused(409, "last-admin", lambda: client.change_user(USER, active=False))
    client.change_user(member, active=False)
    with Client(stack.url) as anonymous:
        refused(401, "sign-in-refused", lambda: anonymous.issue_token(member, "another-ridge-at-dusk", "t"))


def test_sign_ins_are_limited_by_account(stack: Stack, client: Client) -> None:
    name = f"guessed-{uuid.uuid4().hex[:8]}"
    codes = []
    with httpx.Client(base_url=f"{stack.url}/api/v1/") as http:
        for _ in range(12):
            answer = http.post("tokens", json={"user": name, "password": "guess"})
            codes.append(answer.status_code)
    assert codes[:10] == [401] * 10
    assert set(codes[10:]) == {429}
    assert int(answer.headers["Retry-After"]) > 0
    found = client.audit(user=name).items
    assert {item.action for item in found} == {"sign-in-refused", "sign-in-limited"}
    # this address has used up some of what others need as well
    stack.postgres.execute("DELETE FROM records_signinattempt", "ultravect")


def test_passwords_of_earlier_versions_are_hashed_anew(stack: Stack, client: Client) -> None:
    name, password = f"early-{uuid.uuid4().hex[:8]}", "larch-and-lantern-42"
    client.add_user(name, password, "viewer")
    digest = base64.b64encode(hashlib.pbkdf2_hmac("sha256", password.encode(), b"salt", 1000)).decode()

    def stored() -> str:
        return str(
            stack.postgres.execute(f"SELECT password FROM records_user WHERE username = '{name}'", "ultravect")[0][0]
        )

    stack.postgres.execute(
        f"UPDATE records_user SET password = 'pbkdf2_sha256$1000$salt${digest}' WHERE username = '{name}'",
        "ultravect",
    )
    with Client(stack.url) as anonymous:
        refused(401, "sign-in-refused", lambda: anonymous.issue_token(name, "another-one", "t"))
        assert stored().startswith("pbkdf2_sha256$1000$salt$")
        assert anonymous.issue_token(name, password, "t").token
        assert stored().startswith("argon2$argon2id$")
        assert anonymous.issue_token(name, password, "again").token


def test_the_log_says_who_did_what(client: Client, place: Place) -> None:
    name = f"logged-{uuid.uuid4().hex[:8]}"
    client.add_connection(name, "http", {"url": "http://127.0.0.1:1/", "token": "hidden-secret"})
    client.change_connection(name, {"paths": ["a.csv"]})
    client.remove_connection(name)
    place.file("a\n1\n").job()
    place.run()
    entries = client.audit(kind="connection", name=name).items
    assert [(entry.action, entry.user, entry.address) for entry in entries] == [
        (action, USER, "127.0.0.1") for action in ("remove", "change", "add")
    ]
    assert [item.action for item in client.audit(kind="job", name=place.name).items] == ["run", "save"]
    assert "hidden-secret" not in json.dumps([entry.detail for entry in entries])


def test_a_secret_stays_with_the_place_that_it_was_given_for(client: Client) -> None:
    name = f"moved-{uuid.uuid4().hex[:8]}"
    settings = {"host": "db.example.org", "database": "d", "user": "u", "password": "p", "tls": "verified"}
    client.add_connection(name, "postgresql", settings)
    for moved in (
        {"host": "evil.example.org"},
        {"port": 5433},
        {"tls": "off"},
        {"host": "evil.example.org", "user": "x"},
        {"user": "other"},
        {"tls_ca": "-----BEGIN CERTIFICATE-----"},
    ):
        error = refused(422, "secret-needed", lambda moved=moved: client.change_connection(name, moved))
        assert "password" in error.detail
    client.change_connection(name, {"user": "other", "password": "p"})
    client.change_connection(name, {"host": "new.example.org", "password": "again"})
    client.change_connection(name, {"password": {"from_env": "SECRET_X"}})
    refused(422, "secret-needed", lambda: client.change_connection(name, {"host": "third.example.org"}))
    file = client.connection_file(name).replace("new.example.org", "evil.example.org")
    refused(422, "secret-needed", lambda: client.save_connection(name, file.replace("password:", "#").split("#")[0]))
    client.remove_connection(name)
    bucket = f"bucket-{uuid.uuid4().hex[:8]}"
    client.add_connection(bucket, "objectstore", {"bucket": "masts", "access_key": "a", "secret_key": "s"})
    for moved in ({"bucket": "others"}, {"endpoint": "http://127.0.0.1:9"}):
        refused(422, "secret-needed", lambda moved=moved: client.change_connection(bucket, moved))
    client.remove_connection(bucket)


def test_a_reference_is_bound_to_hosts(stack: Stack, client: Client) -> None:
    (stack.state / "secrets" / "bound").write_text(str(stack.warehouse["password"]))
    (stack.state / "secrets" / "bound.hosts").write_text("127.0.0.1 db.example.org\n")
    name = f"bound-{uuid.uuid4().hex[:8]}"
    client.add_connection(name, "postgresql", {**stack.warehouse, "password": {"from_file": "bound"}})
    assert client.test_connection(name).passed
    client.change_connection(name, {"host": "localhost", "password": {"from_file": "bound"}})
    probe = client.test_connection(name)
    assert probe.error is not None
    assert probe.error["code"] == "secret-refused"
    client.remove_connection(name)


def test_answers_have_the_headers_of_a_careful_service(stack: Stack) -> None:
    page = httpx.get(stack.url)
    assert "script-src 'self'" in page.headers["Content-Security-Policy"]
    assert "unsafe-inline" not in page.headers["Content-Security-Policy"].split("style-src")[0]
    assert page.headers["X-Content-Type-Options"] == "nosniff"
    assert page.headers["X-Frame-Options"] == "DENY"
    docs = httpx.get(f"{stack.url}/api/docs")
    assert "<script>" not in docs.text
    uploads = stack.state / "uploads"
    with Client(stack.url, token=stack.token) as client:
        path = stack.files / "to-upload.csv"
        path.write_text("a\n1\n")
        with path.open("rb") as file:
            client.upload("private.csv", file, replace=True)
    assert (uploads / "private.csv").stat().st_mode & 0o077 == 0
    assert (stack.state / "service.log").stat().st_mode & 0o077 == 0


def test_the_command_line_manages_access(stack: Stack, tmp_path: Path) -> None:
    name = f"cli-{uuid.uuid4().hex[:8]}"
    program = str(Path(sys.executable).with_name("ultravect"))

    def shell(*arguments: str, code: int = 0, **environment: str) -> str:
        known = {"PATH": "/usr/bin", "XDG_CONFIG_HOME": str(tmp_path), "ULTRAVECT_URL": stack.url}
        done = subprocess.run(
            [program, *arguments],
            env={**known, "ULTRAVECT_TOKEN": stack.token, **environment},
            capture_output=True,
            text=True,
        )
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr

    assert f"added user {name}: viewer" in shell("user", "add", name, "--role", "viewer", ULTRAVECT_PASSWORD=PASSWORD)
    assert f"changed user {name}: operator" in shell("user", "role", name, "operator")
    assert name in shell("user", "list")
    assert f"disabled user {name}" in shell("user", "disable", name)
    assert f"enabled user {name}" in shell("user", "enable", name)
    shell("user", "password", name, ULTRAVECT_PASSWORD="another-ridge-at-dusk")
    token = shell("token", "add", "nightly", "--role", "operator", "--days", "7").strip()
    assert "operator" in shell("user", "list", code=1, ULTRAVECT_TOKEN=token)  # which says what it takes
    (number,) = [load["id"] for load in json.loads(shell("token", "list", "--json")) if load["label"] == "nightly"]
    assert "is withdrawn" in shell("token", "withdraw", str(number))
    assert name in shell("audit", "--kind", "user", "--name", name)


def test_a_token_of_single_jobs_starts_and_sees_their_runs_alone(stack: Stack, client: Client) -> None:
    mine, other = Place(stack, client).file("a\n1\n"), Place(stack, client).file("a\n1\n")
    for place in (mine, other):
        place.job()
    made = client.make_token("a button on the wall", jobs=[mine.name])
    theirs = other.run()
    with Client(stack.url, token=made.token) as narrow:
        run = narrow.run(mine.name, idempotency_key="once")
        assert narrow.run(mine.name, idempotency_key="once").id == run.id
        assert narrow.wait(run.id).state == "succeeded"
        refused: list[Callable[[], object]] = [
            lambda: narrow.run(other.name),
            lambda: narrow.show(theirs.id),
            lambda: list(narrow.follow(theirs.id)),
            lambda: narrow.jobs(),
            lambda: narrow.job(mine.name),
            lambda: narrow.runs(),
            lambda: narrow.stop(run.id),
            lambda: narrow.rejects(run.id),
            lambda: narrow.fill(mine.name, "2026-01-01", "2026-01-02"),
            lambda: narrow.save_job(mine.name, "{}"),
            lambda: narrow.connections(),
            lambda: narrow.tokens(),
            lambda: narrow.make_token("more"),
            lambda: narrow.today(),
            lambda: narrow.withdraw_token(made.id),
        ]
        for action in refused:
            with pytest.raises(ApiError) as denied:
                action()
            assert denied.value.status == 403, action
    assert next(token for token in client.tokens() if token.id == made.id).jobs == [mine.name]
    with pytest.raises(ApiError) as unknown:
        client.make_token("x", jobs=["no-such-job"])
    assert "no-such-job" in str(unknown.value.errors)
