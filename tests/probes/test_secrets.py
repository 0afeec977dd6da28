"""Secrets: where they are sent, what makes them travel otherwise, in which texts they are not, and who makes tokens for whom."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import pytest
from devtools.stack import Stack
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Place
from tests.probes.hostile import Answer, Asked, HttpServer, PasswordThief, as_json, http_server, listening
from ultravect.client import ApiError, Client
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.objects.keys import keys_named
from ultravect.core.engine.objects.masking import Mask
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kinds, settings_of
from ultravect.core.model.connection import addresses_of, secret_keys, usual_tls

SECRET = "hut-secret-of-some-length"


def _refused(client: Client, name: str, changed: dict[str, Any]) -> ApiError:
    with pytest.raises(ApiError) as raised:
        client.change_connection(name, changed)
    return raised.value


SERVER = {"host": "db.example.org", "port": 5432, "database": "d", "user": "u", "password": SECRET, "tls": "verified"}
HTTP = {
    "url": "https://huts.example.org/a",
    "token_url": "https://sign-in.example.org/t",
    "client_id": "c",
    "client_secret": SECRET,
}
LAKE = {
    "bucket": "huts", "endpoint": "https://store.example.org", "access_key": "a", "secret_key": SECRET, "format": "iceberg",
    "catalogue": "https://catalogue.example.org", "catalogue_secret": SECRET,
}  # fmt: skip
BOARD = {
    "host": "wh.example.org", "database": "d", "user": "u", "password": SECRET, "tls": "verified", "bucket": "huts",
    "endpoint": "https://store.example.org", "access_key": "a", "secret_key": SECRET,
}  # fmt: skip
SFTP = {"host": "far.example.org", "user": "u", "password": SECRET, "host_key": "ssh-ed25519 AAAA"}
STORE = {"bucket": "huts", "endpoint": "https://store.example.org", "access_key": "a", "secret_key": SECRET}


@pytest.mark.parametrize(
    ("kind", "settings", "changed", "needed"),
    [
        *(
            (kind, SERVER, changed, ["password"])
            for kind in ("postgresql", "mariadb", "sqlserver")
            for changed in (
                {"host": "evil.example.org"}, {"port": 5433}, {"user": "other"}, {"tls": "required"}, {"tls": "preferred"}, {"tls": "off"},
                {"tls_ca": "-----BEGIN CERTIFICATE-----\n"},
            )
        ),
        ("sqlserver", SERVER, {"instance": "OTHER"}, ["password"]),
        ("http", HTTP, {"url": "https://evil.example.org/a"}, ["client_secret"]),
        ("http", HTTP, {"token_url": "https://evil.example.org/t"}, ["client_secret"]),
        ("http", HTTP, {"client_id": "other"}, ["client_secret"]),
        ("http", HTTP, {"tls": "unchecked"}, ["client_secret"]),
        ("lake", LAKE, {"catalogue": "https://evil.example.org"}, ["catalogue_secret"]),
        ("lake", LAKE, {"endpoint": "https://evil.example.org"}, ["secret_key"]),
        ("lake", LAKE, {"bucket": "other"}, ["secret_key"]),
        ("warehouse", BOARD, {"endpoint": "https://evil.example.org"}, ["secret_key"]),
        ("warehouse", BOARD, {"host": "evil.example.org"}, ["password", "secret_key"]),
        ("sftp", SFTP, {"host_key": "ssh-ed25519 BBBB"}, ["password"]),
        ("sftp", SFTP, {"host_key": ""}, ["password"]),
        ("objectstore", STORE, {"endpoint": "https://evil.example.org"}, ["secret_key"]),
        ("objectstore", STORE, {"tls": "unchecked"}, ["secret_key"]),
        ("objectstore", STORE, {"addressing": "host"}, ["secret_key"]),
    ],
)  # fmt: skip
def test_what_makes_a_secret_travel_otherwise_needs_it_anew(
    client: Client, place: Place, kind: str, settings: dict[str, Any], changed: dict[str, Any], needed: list[str]
) -> None:
    client.add_connection(place.name, kind, settings)
    refused = _refused(client, place.name, changed)
    assert (refused.status, refused.code) == (422, "secret-needed")
    assert sorted(error["pointer"] for error in refused.errors) == [f"/settings/{key}" for key in sorted(needed)]
    client.change_connection(place.name, {**changed, **dict.fromkeys(needed, "another-secret")})
    client.remove_connection(place.name)


def test_what_makes_it_travel_better_or_no_otherwise_keeps_it(client: Client, place: Place) -> None:
    client.add_connection(place.name, "postgresql", {**SERVER, "host": "127.0.0.1", "tls": "preferred"})
    for changed in ({"tls": "required"}, {"tls": "verified"}, {"staging": "work"}, {"database": "other"}):
        client.change_connection(place.name, changed)
    client.add_connection(f"{place.name}-far", "sftp", {**SFTP, "host_key": ""})
    client.change_connection(f"{place.name}-far", {"host_key": "ssh-ed25519 AAAA"})


def test_a_file_that_leaves_settings_out_makes_nothing_weaker(client: Client, place: Place) -> None:
    """As it was found: without tls and port, verified became preferred, and the password was kept."""
    client.add_connection(place.name, "postgresql", {**SERVER, "host": "127.0.0.1", "port": 6432})
    file = (
        f"ultravect: 1\nconnection: {place.name}\nkind: postgresql\n"
        "settings: {host: 127.0.0.1, database: d, user: u}\n"
    )
    with pytest.raises(ApiError) as refused:
        client.save_connection(place.name, file)
    assert refused.value.code == "secret-needed"
    assert {"port", "tls"} <= {*refused.value.detail.replace(",", " ").split()}
    whole = client.connection(place.name).settings
    assert (whole["tls"], whole["port"]) == ("verified", 6432)
    client.save_connection(place.name, client.connection_file(place.name))


def test_another_site_is_another_place(client: Client, place: Place) -> None:
    client.add_connection(place.name, "postgresql", SERVER)
    with pytest.raises(ApiError) as refused:
        client.save_connection(
            place.name, client.connection_file(place.name).replace("settings:", "site: barn\nsettings:")
        )
    assert refused.value.code == "secret-needed"
    assert "site" in refused.value.detail


def test_every_secret_of_every_kind_names_addresses_that_there_are() -> None:
    for name in kinds():
        model = settings_of(name)
        for key in secret_keys(model):
            assert {*addresses_of(model, key)} <= model.model_fields.keys(), (name, key)
            if key != "passphrase":
                assert addresses_of(model, key), (name, key)


@pytest.mark.parametrize(
    ("kind", "settings", "key", "hosts"),
    [
        ("http", {**HTTP, "client_secret": {"from_file": "bound"}}, "client_secret", "huts.example.org"),
        ("http", {**HTTP, "client_secret": {"from_file": "bound"}}, "client_secret", "sign-in.example.org"),
        ("lake", {**LAKE, "catalogue_secret": {"from_file": "bound"}}, "catalogue_secret", "store.example.org"),
        ("warehouse", {**BOARD, "secret_key": {"from_file": "bound"}}, "secret_key", "wh.example.org"),
        (
            "objectstore",
            {**STORE, "endpoint": None, "secret_key": {"from_file": "bound"}},
            "secret_key",
            "store.example.org",
        ),
    ],
)
def test_a_bound_secret_is_for_all_addresses_that_it_is_sent_to(
    stack: Stack, client: Client, place: Place, kind: str, settings: dict[str, Any], key: str, hosts: str
) -> None:
    (stack.state / "secrets" / "bound").write_text(SECRET)
    (stack.state / "secrets" / "bound.hosts").write_text(f"{hosts}\n")
    client.add_connection(place.name, kind, {name: value for name, value in settings.items() if value is not None})
    probe = client.test_connection(place.name)
    assert probe.error is not None
    assert (probe.error["code"], probe.error["where"]["setting"]) == ("secret-refused", key)


@pytest.mark.parametrize(
    "secret", [f"{SECRET}\r\nX-Other: 1", f"{SECRET}\n", f"a\t{SECRET}", f"{SECRET}\x00", f"{SECRET}\x85"]
)
def test_control_characters_are_refused_and_not_shown(
    stack: Stack, client: Client, place: Place, secret: str
) -> None:
    with pytest.raises(ApiError) as refused:
        client.add_connection(place.name, "http", {"url": "http://127.0.0.1:9/", "token": secret})
    assert refused.value.status == 422
    assert SECRET not in json.dumps(refused.value.errors) + str(refused.value)
    # one that comes from outside
    (stack.state / "secrets" / place.name).write_text(secret + "\n\n")
    client.add_connection(place.name, "http", {"url": "http://127.0.0.1:9/", "token": {"from_file": place.name}})
    probe = client.test_connection(place.name)
    assert probe.error is not None
    assert probe.error["code"] == "secret-unusable"
    assert SECRET not in json.dumps(probe.error)


def test_a_token_that_a_server_gives_is_one_that_can_be_sent(client: Client, place: Place) -> None:
    token = f"{SECRET}\r\nX-Other: 1"

    def answer(_: HttpServer, asked: Asked) -> Answer:
        return as_json({"access_token": token, "expires_in": 60})

    with http_server(answer) as server:
        settings = {
            "url": f"{server.url}/a",
            "token_url": f"{server.url}/t",
            "client_id": "c",
            "client_secret": "s" * 9,
            "paths": ["x"],
        }
        client.add_connection(place.name, "http", settings)
        probe = client.test_connection(place.name)
    assert probe.error is not None
    assert probe.error["code"] == "token-not-given"
    assert SECRET not in json.dumps(probe.error)


def test_secrets_are_in_no_text_that_a_process_says(client: Client, place: Place, stack: Stack) -> None:
    """A server repeats what it was sent: in its errors, its redirects, and what it gives."""

    def answer(_: HttpServer, asked: Asked) -> Answer:
        said = asked.headers.get("authorization", "")
        return 418, {"X-Said": said}, said.encode()

    with http_server(
        lambda s, a: (302, {"Location": f"ftp://{a.headers.get('authorization', '').split()[-1]}"}, b"")
    ) as server:
        client.add_connection(place.name, "http", {"url": f"{server.url}/a", "token": SECRET, "paths": ["x"]})
        probe = client.test_connection(place.name)
        assert probe.error is not None
        assert "…" in json.dumps(probe.error, ensure_ascii=False)
        into = f"into: {{connection: warehouse, table: {place.name}}}\n"
        text = f"ultravect: 1\njob: {place.name}\nfrom: {{connection: {place.name}, files: x}}\n{into}"
        client.save_job(place.name, text)
        run = client.wait(client.run(place.name).id)
        assert run.state == "failed"
        with pytest.raises(ApiError) as refused:
            client.preview(place.name, "x")
    shown = json.dumps([probe.error, run.error, [event.data for event in client.follow(run.id)]]) + str(refused.value)
    assert SECRET not in shown
    assert SECRET not in (stack.state / "service.log").read_text()
    held = stack.postgres.execute(
        "SELECT data::text FROM records_event UNION ALL SELECT error::text FROM records_leg", "ultravect"
    )
    assert SECRET not in str(held)


@given(st.text(min_size=4, max_size=30), st.text(max_size=9), st.text(max_size=20))
def test_a_mask_hides_a_secret_however_it_is_written(secret: str, user: str, around: str) -> None:
    from base64 import b64encode
    from urllib.parse import quote, quote_plus

    mask = Mask([(user, secret)])
    try:
        basic = b64encode(f"{user}:{secret}".encode()).decode()
    except UnicodeEncodeError:
        return
    for written in (
        secret,
        repr(secret),
        json.dumps(secret),
        quote(secret),
        quote(secret, safe=""),
        quote_plus(secret),
        f"Basic {basic}",
    ):
        found = mask.text(f"{around}{written}{around}")
        assert secret not in found or secret in around or secret in "…"
        assert basic.rstrip("=") not in found or basic in around
    assert secret not in str(mask.data({"a": [secret, {"b": (secret,)}]})) or secret in str(
        {"a": ["…", {"b": ["…"]}]}
    )


@pytest.mark.parametrize("password", ["code", "state", "warning", "columns", "append", "mast"])
def test_a_password_that_is_a_word_of_ours_breaks_nothing(password: str, place: Place) -> None:
    name, client = place.name, place.client
    place.sql(
        f"""CREATE SCHEMA {name}; CREATE TABLE {name}.mast (code integer, state text);
        INSERT INTO {name}.mast VALUES (1, '{password}'); CREATE ROLE {name} LOGIN PASSWORD '{password}';
        GRANT ALL ON SCHEMA {name} TO {name}; GRANT ALL ON {name}.mast TO {name}"""
    )
    settings = {**place.stack.warehouse, "user": name}
    client.add_connection(name, "postgresql", settings | {"password": "wrong"})
    refused = client.test_connection(name).error
    assert refused is not None
    assert refused["code"] == "wrong-password"
    client.change_connection(name, {"password": password})
    text = (
        f"ultravect: 1\njob: {name}\nfrom: {{connection: {name}, table: {name}.mast}}\n"
        f"into: {{connection: {name}, table: {name}.poles}}\ncolumns: [code, staet]\n"
    )
    client.save_job(name, text)
    (finding,) = [finding for finding in client.check_job(name).findings if finding.edit]
    assert "columns: [code, state]" in finding.edit.new if finding.edit else finding
    client.save_job(name, text.replace("staet", "state"))
    run = client.wait(client.run(name).id)
    assert run.state == "succeeded", run.error
    assert place.sql(f"SELECT code, state FROM {name}.poles") == [(1, password)]
    assert client.preview(name, f"{name}.poles")["rows"] == [[1, password]]


def test_no_password_is_shown_to_a_server_that_has_not_proved_itself() -> None:
    """As it was found: a server without TLS asked for the password as it is, and had it."""
    for kind, more in (
        ("postgresql", {}),
        ("warehouse", {"bucket": "huts", "access_key": "a", "secret_key": "s", "endpoint": "http://127.0.0.1:9"}),
    ):
        thief = PasswordThief()
        with listening(thief) as port:
            settings = {"host": "127.0.0.1", "port": port, "database": "d", "user": "u", "password": SECRET, **more}
            with pytest.raises(UltravectError) as raised:
                database_of(ConnectionSpec("x", kind, settings)).ask("select 1", 1, 5)
        assert raised.value.code == "sign-in-unsafe", kind
        assert thief.heard
        assert not [heard for heard in thief.heard if SECRET.encode() in heard]


@pytest.mark.parametrize(
    ("host", "tls"),
    [
        ("127.0.0.1", "preferred"), ("localhost", "preferred"), ("::1", "preferred"), ("10.1.2.3", "preferred"), ("192.168.1.9", "preferred"),
        ("/srv/run", "preferred"), ("db.example.org", "verified"), ("8.8.8.8", "verified"), ("localhost.example.org", "verified"),
    ],
)  # fmt: skip
def test_tls_that_is_left_out_goes_by_the_host(client: Client, place: Place, host: str, tls: str) -> None:
    assert usual_tls(host) == tls
    made = client.add_connection(place.name, "postgresql", {"host": host, "database": "d", "user": "u"})
    assert made.settings["tls"] == tls
    client.remove_connection(place.name)


def test_keys_that_a_job_names_are_those_of_its_expressions() -> None:
    """Not those of which the text speaks: a comment, a name of a column, or a text is no key."""
    job = {
        "about": "SECRET_A",
        "from": {"connection": "a", "where": "hmac(k, 'SECRET_B') = 'SECRET_C'"},
        "columns": [
            "hmac(name, 'SECRET_D') as n",
            "SECRET_E",
            "'SECRET_F' as f",
            "hmac(hmac(a, 'SECRET_G'), 'SECRET_H') as h",
            "broken hmac((",
        ],
        "into": {"before": ["select hmac(a, 'SECRET_I')"]},
        "objects": {"x": {"columns": ["hmac(a, 'SECRET_J') as j"]}},
    }
    assert keys_named(job) == {f"SECRET_{letter}" for letter in "BDGHJ"}


@contextmanager
def _with_token(stack: Stack, token: str) -> Iterator[Client]:
    with Client(stack.url, token=token) as signed_in:
        yield signed_in


def test_tokens_make_none_that_are_wider_or_last_longer(stack: Stack, client: Client) -> None:
    short = client.make_token("short", role="operator", days=1)
    with _with_token(stack, short.token) as limited:
        for role, days in ((None, None), ("", None), ("operator", 30), ("viewer", 5)):
            with httpx.Client(base_url=stack.url, headers={"Authorization": f"Bearer {short.token}"}) as asking:
                body = {
                    "label": "child",
                    **({"role": role} if role is not None else {}),
                    **({"days": days} if days else {}),
                }
                made = asking.post("/api/v1/tokens", json=body)
            if made.status_code == 422:
                continue  # an empty role is no role
            assert made.status_code == 201, made.text
            child = made.json()
            assert child["role"] in ("operator", "viewer")
            assert child["expires_at"] is not None
            assert child["expires_at"] <= short.expires_at.isoformat().replace("+00:00", "Z")
        for role in ("editor", "admin"):
            with pytest.raises(ApiError) as refused:
                limited.make_token("x", role=role)
            assert refused.value.status == 403
        # and those of others, its owner's included, are not its to withdraw
        with pytest.raises(ApiError) as refused:
            limited.withdraw_token(next(token.id for token in client.tokens() if token.label == "dev"))
        assert refused.value.status == 403
        child = limited.make_token("child")
        grandchild: str
        with _with_token(stack, child.token) as below:
            grandchild = below.make_token("grandchild").token
        limited.withdraw_token(child.id)
    for token in (child.token, grandchild):
        with _with_token(stack, token) as gone, pytest.raises(ApiError) as refused:
            gone.me()
        assert refused.value.status == 401
    other = client.make_token("parent", days=1)
    with _with_token(stack, other.token) as parent:
        orphan = parent.make_token("orphan").token
    client.withdraw_token(other.id)
    with _with_token(stack, orphan) as gone, pytest.raises(ApiError) as refused:
        gone.me()
    assert refused.value.status == 401


def test_only_an_admin_lets_jobs_call_procedures(stack: Stack, client: Client, place: Place) -> None:
    client.add_user(f"ed-{place.name}", "a long password of an editor", "editor")
    with Client(stack.url) as signing_in:
        token = signing_in.issue_token(f"ed-{place.name}", "a long password of an editor", "x").token
    with _with_token(stack, token) as editor:
        with pytest.raises(ApiError) as refused:
            editor.add_connection(place.name, "postgresql", {**stack.warehouse, "may_call": True})
        assert refused.value.status == 422
        editor.add_connection(place.name, "postgresql", stack.warehouse)
        assert "may_call" in str(_refused(editor, place.name, {"may_call": True}).errors)
        client.change_connection(place.name, {"may_call": True})
        editor.change_connection(place.name, {"staging": "raw"})
        assert client.connection(place.name).settings["may_call"] is True
