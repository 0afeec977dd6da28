"""Browsing, previews, saved layouts, uploads and connection files, through the API and its client."""

from __future__ import annotations

import io
import os
import uuid
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import ApiError, Client


@pytest.fixture
def http(stack: Stack) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=f"{stack.url}/api/v1/", headers={"Authorization": f"Bearer {stack.token}"}) as opened:
        yield opened


@pytest.fixture
def corner(stack: Stack) -> Iterator[Path]:
    """A folder of the test's own in the connection `incoming`."""
    folder = stack.files / f"corner-{uuid.uuid4().hex[:8]}"
    folder.mkdir()
    yield folder
    for path in folder.iterdir():
        path.unlink()
    folder.rmdir()


def refused(call: Any, *arguments: Any, **named: Any) -> ApiError:
    with pytest.raises(ApiError) as raised:
        call(*arguments, **named)
    return raised.value


def test_files_are_listed_page_by_page(client: Client, corner: Path) -> None:
    for number in range(7):
        (corner / f"{number}.csv").write_text("a\n")
    (corner / "x.txt").write_text("a\n")
    found: list[str] = []
    after = ""
    while True:
        page = client.objects("incoming", pattern=f"{corner.name}/*.csv", after=after, limit=3)
        found += [item["name"] for item in page["items"]]
        assert page["more"] == (page["next"] is not None)
        if not page["more"]:
            break
        after = page["next"]
    assert found == [f"{corner.name}/{number}.csv" for number in range(7)]
    assert [item["size"] for item in client.objects("incoming", search=f"{corner.name}/x")["items"]] == [2]
    assert client.objects("warehouse", search="no such table")["items"] == []
    assert refused(client.objects, "warehouse", pattern="a*").code == "pattern-not-supported"


def test_what_is_inside(client: Client, corner: Path) -> None:
    with zipfile.ZipFile(corner / "z.zip", "w") as archive:
        archive.writestr("b/2.csv", "a,b\n1,2\n")
        archive.writestr("a/1.csv", "a,b\n3,4\n")
    name = f"{corner.name}/z.zip"
    assert [item["name"] for item in client.objects("incoming", inside=name)["items"]] == [
        f"{name}/a/1.csv",
        f"{name}/b/2.csv",
    ]
    assert client.preview("incoming", f"{name}/b/2.csv")["rows"] == [["1", "2"]]
    (corner / "p.csv").write_text("a\n1\n")
    assert refused(client.objects, "incoming", inside=f"{corner.name}/p.csv").code == "nothing-inside"


def test_previews_with_ones_own_layout(client: Client, corner: Path) -> None:
    (corner / "a.txt").write_text("x1;y\n1;2,5\n3;4,5\n")
    name = f"{corner.name}/a.txt"
    found = client.preview("incoming", name)
    assert (found["layout"]["delimiter"], found["layout"]["values"]["decimal_mark"]) == (";", ",")
    own = client.preview(
        "incoming", name, layout={"format": "fixed", "header": False, "fields": [{"name": "all", "width": 5}]}
    )
    assert [row[0] for row in own["rows"]] == ["x1;y", "1;2,5", "3;4,5"]
    wrong = refused(client.preview, "incoming", name, layout={"delimter": ";"})
    assert (wrong.status, wrong.code, wrong.hint) == (422, "layout-invalid", "did you mean 'delimiter'?")
    raw = client.raw("incoming", name, size=4)
    assert (raw["text"], raw["complete"], raw["encoding"], raw["size"]) == ("x1;y", False, "utf-8", 17)
    assert refused(client.raw, "incoming", name, encoding="klingon").code == "layout-invalid"
    assert refused(client.preview, "incoming").code == "input-invalid"


def test_random_rows_and_counts(client: Client, corner: Path) -> None:
    (corner / "n.csv").write_text(
        "n,w\n" + "".join(f"{number},{'ab'[number % 2]}\n" for number in range(1, 2001)) + ",\n"
    )
    name = f"{corner.name}/n.csv"
    seen = client.preview("incoming", name, rows=5, random=True, counts=True, whole=True)
    numbers = [int(row[0]) for row in seen["rows"] if row[0]]
    assert numbers == sorted(numbers)
    assert seen["row_numbers"] != [1, 2, 3, 4, 5]
    n, w = (column["counts"] for column in seen["columns"])
    assert (n["values"], n["nulls"], n["distinct"], n["low"], n["high"], n["longest"]) == (
        2000,
        1,
        2000,
        "1",
        "2000",
        4,
    )
    assert w["top"] == [{"value": "a", "count": 1000}, {"value": "b", "count": 1000}]


def test_a_query_is_looked_at(client: Client) -> None:
    seen = client.preview("warehouse", query="select 1::smallint as a, 'x'::varchar(3) as b")
    assert [(column["name"], column["type"], column["native"]) for column in seen["columns"]] == [
        ("a", "smallint", "smallint"),
        ("b", "text(3)", "character varying(3)"),
    ]
    assert refused(client.preview, "warehouse", query="drop table x").code == "not-a-question"
    assert refused(client.preview, "incoming", query="select 1").code == "not-a-database"


def test_a_viewer_looks_and_does_not_ask(client: Client, stack: Stack, corner: Path) -> None:
    user = f"viewer-{uuid.uuid4().hex[:6]}"
    stack._service("user", "add", user, "--role", "viewer", wait=True)
    token = client.issue_token(user, stack.password, "look").token
    (corner / "a.csv").write_text("a,b\n1,2\n")
    with Client(stack.url, token=token) as viewer:
        assert viewer.preview("incoming", f"{corner.name}/a.csv", layout={"header": False})["rows_scanned"] == 2
        for call in (
            lambda: viewer.preview("warehouse", query="select 1"),
            lambda: viewer.upload("x.csv", io.BytesIO(b"a\n")),
            lambda: viewer.save_layout("x", "ultravect: 1\nlayout: x\nreads: {format: jsonl}\n"),
            lambda: viewer.test_connection("warehouse"),
        ):
            assert (refused(call).status, refused(call).code) == (403, "not-allowed")


LAYOUT = """ultravect: 1
layout: {name}
# ours
reads: {{format: delimited, delimiter: '|'}}
expects: [{{name: a, type: integer}}, {{name: b, type: text}}]
"""


def test_a_layout_is_saved_named_and_outgrown(client: Client, place: Place, corner: Path) -> None:
    name = place.name
    saved = client.save_layout(name, LAYOUT.format(name=name))
    assert (saved.version, saved.format, "# ours" in saved.file) == (1, "delimited", True)
    assert client.save_layout(name, LAYOUT.format(name=name)).version == 1
    (corner / "good.csv").write_text("a|b\n1|x\n")
    (corner / "moved.csv").write_text("b|a\nx|1\n")
    (corner / "typed.csv").write_text("a|b\n1|x\nnone|y\n")
    (corner / "more.csv").write_text("a|b|c\n1|x|\n")
    assert client.fit(name, "incoming", f"{corner.name}/good.csv").fits
    for file, shown in (
        ("moved", "column 1 is now 'b', it was 'a' (it is column 2 now)"),
        (
            "typed",
            "column 1 'a' is now text, it was integer (1 whole number, and 'none' 1 time, which may mean NULL)",
        ),
        ("more", "column 3 'c' is new"),
    ):
        fit = client.fit(name, "incoming", f"{corner.name}/{file}.csv")
        assert not fit.fits
        assert shown in fit.findings[0].message
    place.file("a|b\n1|x|y\n2|z\n")
    assert refused(client.save_job, name, place_job(place, "nowhere")).code == "layout-unknown"
    client.save_job(name, place_job(place, f"{name}@1") + "  rejects: 1\n")
    client.save_layout(name, LAYOUT.format(name=name).replace("'|'", "';'"))
    assert client.layout(name).version == 2
    run = place.run()
    assert run.state == "succeeded", run.error
    assert place.rows() == [(2, "z")]
    assert refused(client.save_job, name, place_job(place, f"{name}@9")).code == "layout-unknown"
    assert refused(client.remove_layout, name).code == "layout-in-use"
    client.remove_job(name)
    client.remove_layout(name)
    assert refused(client.layout, name).status == 404
    assert client.save_layout(name, LAYOUT.format(name=name)).version == 3


def place_job(place: Place, layout: str) -> str:
    return (
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: {place.name}.csv, layout: {layout}}}\n"
        f"into:\n  connection: warehouse\n  table: {place.name}\n"
    )


@pytest.mark.parametrize(
    ("change", "part"),
    [
        (("delimited", "delimitd"), "did you mean 'delimited'?"),
        (("reads", "read"), "did you mean 'reads'?"),
        (("layout: {name}", "layout: A b"), ""),
    ],
)
def test_bad_layout_files(change: tuple[str, str], part: str, client: Client) -> None:
    error = refused(client.save_layout, "bad", LAYOUT.replace(*change).format(name="bad"))
    assert error.code == "layout-file-invalid"
    assert any(part in entry.get("hint", "") for entry in error.errors)


def test_many_files_into_one_table(place: Place, corner: Path) -> None:
    (corner / "1.csv").write_text("a,b\n1,x\n2,y\n")
    (corner / "2.csv").write_text("a,b\n3,z\nbad,w\n")
    text = place.job(into="rejects: 1", columns='["a integer", b]').replace(
        f"files: {place.name}.csv", f'files: "{corner.name}/*.csv"'
    )
    place.client.save_job(place.name, text)
    run = place.run()
    assert run.state == "succeeded", run.error
    assert run.legs[0].tally is not None
    assert (run.legs[0].tally["read"], place.rows()) == (4, [(1, "x"), (2, "y"), (3, "z")])
    (reject,) = place.client.rejects(run.id).items
    assert (reject.object, reject.row, reject.line, reject.value) == (f"{corner.name}/2.csv", 2, 3, "bad")


@pytest.mark.parametrize(
    ("name", "content", "types"),
    [
        ("m.jsonl", b'{"a": 1, "b": {"c": 2.5}, "t": "2026-01-02T03:04:05Z"}\n{"a": null, "b": null, "t": null}\n', ["bigint", "numeric(18,1)"]),
        ("m.json", b'[{"a": 12345678901, "b": "007"}]', ["bigint", "text"]),
        ("s.txt", b"hut  kg\n001  12\n002 900\n", ["text", "integer"]),
    ],
)  # fmt: skip
def test_other_formats_arrive_typed(name: str, content: bytes, types: list[str], place: Place, corner: Path) -> None:
    (corner / name).write_bytes(content)
    place.client.save_job(place.name, place.job().replace(f"{place.name}.csv", f"{corner.name}/{name}"))
    run = place.run()
    assert run.state == "succeeded", run.error
    found = place.client.preview("warehouse", place.name)
    natives = [column["native"] for column in found["columns"]][:2]
    assert [native.replace("integer", "bigint") if name == "m.jsonl" else native for native in natives] == types


class TestUploads:
    def test_a_file_lands_and_can_be_looked_at(self, client: Client) -> None:
        name = f"june/{uuid.uuid4().hex}.csv"
        sent = client.upload(name, io.BytesIO(b"a,b\n1,2\n"))
        assert (sent.connection, sent.object, sent.size, sent.replaced) == ("uploads", name, 8, False)
        assert client.preview("uploads", name)["rows"] == [["1", "2"]]
        assert refused(client.upload, name, io.BytesIO(b"x")).code == "upload-exists"
        assert client.upload(name, io.BytesIO(b"a,b\n3,4\n"), replace=True).replaced
        assert client.preview("uploads", name)["rows"] == [["3", "4"]]
        client.remove_upload(name)
        assert refused(client.remove_upload, name).status == 404

    @pytest.mark.parametrize("name", ["..", "../x.csv", "a/../../x", ".hidden", "a//b", "x" * 300, "a\0b"])
    def test_bad_names(self, name: str, http: httpx.Client, stack: Stack) -> None:
        before = sorted(path for path in stack.state.rglob("x*.csv"))
        address = f"{stack.url}/api/v1/uploads/{name.replace('..', '%2e%2e').replace(chr(0), '%00')}"
        response = http.put(address, content=b"x")
        assert response.status_code in (400, 404, 422)
        assert sorted(path for path in stack.state.rglob("x*.csv")) == before

    def test_a_large_file_is_streamed(self, client: Client, stack: Stack) -> None:
        content = os.urandom(1 << 20) * 24
        name = f"{uuid.uuid4().hex}.bin"
        assert client.upload(name, io.BytesIO(content)).size == len(content)
        assert (stack.state / "uploads" / name).read_bytes() == content
        assert [path.name for path in (stack.state / "uploads").glob(".*")] == []

    def test_the_connection_is_the_services_own(self, client: Client) -> None:
        assert refused(client.remove_connection, "uploads").code == "connection-managed"
        assert refused(client.change_connection, "uploads", {"path": "/etc"}).code == "connection-managed"
        assert client.test_connection("uploads").passed


class TestConnectionFiles:
    def test_out_and_in_again(self, client: Client, stack: Stack) -> None:
        name = f"c-{uuid.uuid4().hex[:8]}"
        client.add_connection(name, "postgresql", stack.warehouse)
        text = client.connection_file(name)
        assert str(stack.warehouse["password"]) not in text
        assert f"SECRET_{name.upper().replace('-', '_')}" in text
        # what is sealed stays, when the file comes back
        assert client.save_connection(name, text).secrets_set == ["password"]
        assert client.test_connection(name).passed
        client.remove_connection(name)
        assert client.save_connection(name, text).secrets_set == []
        assert client.test_connection(name).passed is False
        client.remove_connection(name)

    def test_references_are_followed_when_needed(self, client: Client, stack: Stack) -> None:
        name = f"c-{uuid.uuid4().hex[:8]}"
        settings = {key: value for key, value in stack.warehouse.items() if key != "password"}
        client.add_connection(name, "postgresql", settings | {"password": {"from_file": "warehouse"}})
        assert client.connection(name).settings["password"] == {"from_file": "warehouse"}
        assert "from_file: warehouse" in client.connection_file(name)
        error = client.test_connection(name).error
        assert error is not None
        assert (error["code"], "warehouse" in error["detail"]) == ("secret-missing", True)
        secret = stack.state / "secrets" / "warehouse"
        secret.write_text(f"{stack.warehouse['password']}\n")
        assert client.test_connection(name).passed
        secret.unlink()
        for reference, code in (
            ({"from_env": "PATH"}, "secret-refused"),
            ({"from_env": "SECRET_NOT_SET"}, "secret-missing"),
        ):
            client.change_connection(name, {"password": reference})
            error = client.test_connection(name).error
            assert error is not None
            assert error["code"] == code
        client.remove_connection(name)

    @pytest.mark.parametrize(
        ("password", "part"),
        [
            ({"from_env": "A", "from_file": "b"}, "one place"),
            ({"from_file": "../etc/passwd"}, "name of a file"),
            ({"from_env": "a b"}, "environment variable"),
            ({}, "one place"),
            (7, ""),
        ],
    )
    def test_bad_references(self, password: Any, part: str, client: Client, stack: Stack) -> None:
        error = refused(client.add_connection, "bad", "postgresql", dict(stack.warehouse) | {"password": password})
        assert (error.status, part in str(error.errors)) == (422, True)


def test_a_test_also_writes_where_a_job_does(place: Place, stack: Stack) -> None:
    place.file("a\n1\n").job()
    steps = [step.step for step in place.client.test_connection("warehouse").steps]
    assert steps == ["resolve", "reach", "sign in", "list", "read", "log", "write"]
    assert [step.step for step in place.client.test_connection("warehouse", write=False).steps][-1] == "log"
    place.sql("CREATE ROLE {t}_r LOGIN PASSWORD 'reader-of-it'")
    place.client.add_connection(
        place.name, "postgresql", dict(stack.warehouse) | {"user": f"{place.name}_r", "password": "reader-of-it"}
    )
    probe = place.client.test_connection(place.name, write=True)
    assert (probe.error or {})["code"] == "privilege-missing"
    assert [step.state for step in probe.steps] == ["passed"] * 6 + ["failed"]
