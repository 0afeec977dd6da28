"""What is declared as files: written out, compared, and made the same by removing what the files do not have."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from devtools.stack import Stack, temporary_stack

from ultravect.client import Client

PROGRAM = str(Path(sys.executable).parent / "ultravect")
JOB = "ultravect: 1\njob: {name}\nfrom: {{connection: incoming, files: {name}.csv}}\ninto: {{connection: warehouse, table: {name}}}\n"


@pytest.fixture(scope="module")
def stack() -> Iterator[Stack]:
    # of its own: what is removed here is what others have
    with temporary_stack("declared", slots=0) as started:
        yield started


def _run(stack: Stack, *arguments: str, code: int = 0) -> str:
    environment = os.environ | {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token, "COLUMNS": "160"}
    done = subprocess.run([PROGRAM, *arguments], env=environment, capture_output=True, text=True)
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


def test_a_team_keeps_what_is_declared_in_a_folder(stack: Stack, tmp_path: Path) -> None:
    folder = tmp_path / "declared"
    with Client(stack.url, token=stack.token) as client:
        # the job that waits comes first by its name, and is saved after the other
        client.save_job("huts", JOB.format(name="huts"))
        client.save_job("a-summary", JOB.format(name="a-summary") + "run: {after: [huts]}\n")
        client.save_layout("slips", "ultravect: 1\nlayout: slips\nreads: {format: delimited, delimiter: ';'}\n")
        _run(stack, "export", str(folder))
        names = {path.relative_to(folder).as_posix() for path in folder.rglob("*.yaml")}
        assert names == {
            "connections/incoming.yaml", "connections/warehouse.yaml", "jobs/a-summary.yaml", "jobs/huts.yaml", "layouts/slips.yaml",
        }  # fmt: skip
        assert str(stack.warehouse["password"]) not in (folder / "connections" / "warehouse.yaml").read_text()
        assert "nothing would change" in _run(stack, "save", str(folder), "--dry-run", "--prune")
        # what others have changed meanwhile, and what the folder has anew
        client.save_job("forgotten", JOB.format(name="forgotten"))
        huts = folder / "jobs" / "huts.yaml"
        huts.write_text(huts.read_text().replace("table: huts", "table: hut"))
        (folder / "jobs" / "guests.yaml").write_text(JOB.format(name="guests"))
        shown = _run(stack, "save", str(folder), "--dry-run", "--prune")
        assert "~ job huts: changed" in shown
        assert "-into: {connection: warehouse, table: huts}" in shown
        assert "+into: {connection: warehouse, table: hut}" in shown
        assert "+ job guests: new" in shown
        assert "- job forgotten: removed" in shown
        found = json.loads(_run(stack, "save", str(folder), "--dry-run", "--json"))
        assert [(item["what"], item["name"]) for item in found] == [("new", "guests"), ("changed", "huts")]
        assert {job.name for job in client.jobs().items} == {"huts", "a-summary", "forgotten"}
        assert "removed job forgotten" in _run(stack, "save", str(folder), "--prune")
        assert {job.name for job in client.jobs().items} == {"huts", "a-summary", "guests"}
        assert client.job("huts").revision == 2
        assert client.job("a-summary").revision == 1
        assert client.connection("warehouse").secrets_set == ["password"]
        # files with problems remove nothing
        (folder / "jobs" / "guests.yaml").write_text("ultravect: 1\njob: guests\nfrom: {}\n")
        assert "nothing was saved or removed" in _run(stack, "save", str(folder), "--prune", code=1)
        assert {job.name for job in client.jobs().items} == {"huts", "a-summary", "guests"}


def test_an_empty_service_takes_all_of_it_in_an_order_that_works(stack: Stack, tmp_path: Path) -> None:
    with Client(stack.url, token=stack.token) as client:
        for job in client.jobs().items:
            client.remove_job(job.name)
        names = ["c", "b", "a"]
        for name, after in zip(names, ["", "c", "b"], strict=True):
            run = f"run: {{after: [{after}]}}\n" if after else ""
            (tmp_path / f"{name}.yaml").write_text(JOB.format(name=name) + run)
        _run(stack, "save", str(tmp_path))
        assert {job.name for job in client.jobs().items} == set(names)
