"""Catalogues, tables and servers that would configure us: none of what they say chooses code, addresses, credentials or files."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.table.locations import load_location_provider
from standins.iceberg_catalogue import CatalogueServer, catalogue_server

from tests.conftest import Place
from tests.probes.hostile import Answer, Asked, HttpServer, as_json, http_server
from ultravect.client import ApiError, Client
from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.browse import Wanted, list_objects, preview
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

TOKEN = "a-token-of-the-catalogue"


def _spec(folder: Path, address: str) -> ConnectionSpec:
    settings = {"path": str(folder), "format": "iceberg", "catalogue": address, "catalogue_secret": TOKEN}
    return ConnectionSpec("lake", "lake", settings, [str(folder)])


def _programs(canary: Path) -> list[dict[str, Any]]:
    """What a catalogue would have us run, and whom it would have us ask."""
    touch = ["/usr/bin/touch", str(canary)]
    return [
        {"auth": {"type": "custom", "impl": "subprocess.Popen", "custom": {"args": touch}}},
        {"auth": {"type": "custom", "impl": "os.system", "custom": {"command": " ".join(touch)}}},
        {"py-io-impl": "subprocess.Popen", "py-catalog-impl": "subprocess.Popen"},
        {"write.py-location-provider.impl": "subprocess.Popen"},
        {"s3.retry-strategy-impl": "subprocess.Popen"},
        {"rest.sigv4-enabled": "true", "client.role-arn": "arn:aws:iam::1:role/x"},
        {"token": "another", "credential": "client:secret", "header.Authorization": "Bearer another"},
        {"ssl": {"cabundle": "/etc/hostname", "client": {"cert": "/etc/hostname", "key": "/etc/hostname"}}},
        {"prefix": "../../elsewhere", "namespace-separator": ""},
        {"prefix": "%2e%2e/%2e%2e"},
        {"prefix": "a?b#c"},
        {"scan-planning-mode": "server"},
    ]


@contextmanager
def _config_of(other: CatalogueServer, said: Callable[[], dict[str, Any]]) -> Iterator[HttpServer]:
    """A catalogue that says ``said`` of itself, and is otherwise the honest one."""
    import httpx

    def answer(_: HttpServer, asked: Asked) -> Answer:
        if asked.path.startswith("/v1/config"):
            return as_json(said())
        headers = {"Authorization": asked.headers.get("authorization", ""), "Content-Type": "application/json"}
        found = httpx.request(asked.method, other.url + asked.path, headers=headers, content=asked.body)
        return found.status_code, {"Content-Type": "application/json"}, found.content

    with http_server(answer) as server:
        yield server


@pytest.mark.parametrize("where", ["overrides", "defaults"])
def test_what_a_catalogue_says_of_itself_runs_nothing_and_leads_nowhere(tmp_path: Path, where: str) -> None:
    canary, said = tmp_path / "ran", dict[str, Any]()
    (tmp_path / "lake").mkdir()
    with http_server(lambda *_: as_json({})) as elsewhere, catalogue_server(tmp_path / "lake", TOKEN) as honest:
        honest.catalogue.create_namespace("main")
        honest.catalogue.create_table("main.huts", pa.schema([("k", pa.int64())])).append(pa.table({"k": [1, 2]}))
        with _config_of(honest, lambda: said) as server:
            for program in [*_programs(canary), {"uri": elsewhere.url, "oauth2-server-uri": elsewhere.url}]:
                said.clear()
                said.update({"defaults": {}, "overrides": {}} | {where: program})
                spec = _spec(tmp_path / "lake", server.url)
                assert [item["name"] for item in list_objects(spec, Listing(limit=9))] == ["huts"], program
                assert preview(spec, "huts", Wanted(5, False, False, False))["rows"] == [[1], [2]]
            assert not canary.exists()
            assert elsewhere.asked == []
            sent = {asked.headers["authorization"] for asked in server.asked}
            assert sent == {f"Bearer {TOKEN}"}


@pytest.mark.parametrize(
    "said",
    [
        b"",
        b"[]",
        b"null",
        b'{"overrides": []}',
        b'{"endpoints": ["GET"]}',
        b"{" * 5_000,
        b'{"overrides": {"prefix": 7}}',
        b"\xff\xfe",
    ],
)
def test_nonsense_of_a_catalogue_is_an_error_that_says_so(tmp_path: Path, said: bytes) -> None:
    with http_server(lambda *_: (200, {"Content-Type": "application/json"}, said)) as server:
        with pytest.raises(UltravectError) as raised:
            list_objects(_spec(tmp_path, server.url), Listing(limit=9))
        assert raised.value.code in ("table-damaged", "lake-unreachable")
        assert TOKEN not in str(raised.value.as_dict())


def test_a_redirect_of_a_catalogue_gets_no_token(tmp_path: Path) -> None:
    with http_server(lambda *_: as_json({})) as elsewhere:

        def answer(*_: object) -> Answer:
            return 307, {"Location": f"{elsewhere.url}/v1/config"}, b""

        with http_server(answer) as server, pytest.raises(UltravectError):
            list_objects(_spec(tmp_path, server.url), Listing(limit=9))
        assert elsewhere.asked == []


def test_an_answer_without_end_is_given_up(tmp_path: Path) -> None:
    with http_server(lambda *_: (200, {}, b" " * (65 << 20) + b"{}")) as server:
        with pytest.raises(UltravectError) as raised:
            list_objects(_spec(tmp_path, server.url), Listing(limit=9))
        assert "larger than" in raised.value.detail


def test_settings_of_a_table_choose_no_program(tmp_path: Path) -> None:
    """The table says by which class files get their places: it is read, and nothing is written to it."""
    lake = tmp_path / "lake"
    lake.mkdir()
    catalogue = SqlCatalog("default", uri=f"sqlite:///{lake}/catalogue.sqlite", warehouse=f"file://{lake}")
    catalogue.create_namespace("main")
    table = catalogue.create_table("main.huts", pa.schema([("k", pa.int64())]), location=f"file://{lake}/main/huts")
    table.append(pa.table({"k": [1]}))
    # as another program has written it
    held = Path(catalogue.load_table("main.huts").metadata_location.removeprefix("file://"))
    metadata = json.loads(held.read_text())
    metadata["properties"] = {"write.py-location-provider.impl": "antigravity.Popen", "py-io-impl": "this.Zen"}
    held.write_text(json.dumps(metadata))
    spec = ConnectionSpec("lake", "lake", {"path": str(lake), "format": "iceberg"}, [str(lake)])
    assert preview(spec, "huts", Wanted(5, False, False, False))["rows"] == [[1]]
    (tmp_path / "huts.csv").write_text("k\n2\n")
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "huts",
            "from": {"connection": "in", "files": "huts.csv"},
            "into": {"connection": "lake", "table": "huts"},
        }
    )
    source = ConnectionSpec("in", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    with pytest.raises(UltravectError) as raised:
        run_leg(job, source, spec, Copied())
    assert "write.py-location-provider.impl" in raised.value.detail
    with pytest.raises(UltravectError) as raised:
        load_location_provider(f"file://{lake}", {"write.py-location-provider.impl": "antigravity.Popen"})
    assert raised.value.code == "table-feature"
    assert not {"antigravity", "this"} & sys.modules.keys()


@pytest.mark.parametrize(
    "address",
    [
        "postgresql://lake@db.huts.example/lake?host=/tmp",
        "postgresql://lake@db.huts.example/lake?hostaddr=127.0.0.1",
        "postgresql://lake@db.huts.example/lake?passfile=/etc/passwd",
        "postgresql://lake@db.huts.example/lake?sslkey=/etc/passwd&sslmode=require",
        "postgresql://lake@db.huts.example/lake?service=x",
        "postgresql://lake@db.huts.example/lake?options=-c%20x=y",
        "postgresql://lake@db.huts.example/lake?sslmode=allow",
        "postgresql://lake@db.huts.example,evil.example/lake",
        "postgresql://lake@%2ftmp/lake",
        "https://catalogue.huts.example/?token=x",
    ],
)
def test_addresses_of_catalogues_have_no_parameters_of_their_own(client: Client, place: Place, address: str) -> None:
    settings = {"path": str(place.stack.files), "format": "iceberg", "catalogue": address}
    with pytest.raises(ApiError) as refused:
        client.add_connection(f"{place.name}-lake", "lake", settings)
    assert refused.value.status == 422


def test_a_viewer_s_look_at_a_hostile_catalogue(client: Client, place: Place) -> None:
    """Through the service, as it was found: a viewer looks, and a program runs."""
    canary = place.stack.files / f"{place.name}-ran"
    program = {
        "auth": {"type": "custom", "impl": "subprocess.Popen", "custom": {"args": ["/usr/bin/touch", str(canary)]}}
    }

    def answer(_: HttpServer, asked: Asked) -> Answer:
        if asked.path.startswith("/v1/config"):
            return as_json({"defaults": {}, "overrides": program})
        return as_json({"namespaces": []})

    name = f"{place.name}-lake"
    with http_server(answer) as server:
        settings = {
            "path": str(place.stack.files),
            "format": "iceberg",
            "catalogue": server.url,
            "catalogue_secret": "x" * 20,
        }
        client.add_connection(name, "lake", settings)
        assert client.objects(name)["items"] == []
        assert len(server.asked) > 1
    assert not canary.exists()
    assert json.dumps(client.connection(name).settings).count("x" * 20) == 0
