"""The first hour at the command line: where one stands, editing, what differs, logs, completion, lists that fit."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from devtools.shots import terminal_output
from devtools.stack import Stack
from tests.conftest import Place

PROGRAM = str(Path(sys.executable).parent / "ultravect")


def ran(stack: Stack | None, home: Path, *arguments: str, given: str = "", code: int = 0, **more: str) -> str:
    """What a command prints, in a home of its own."""
    signed_in = {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token} if stack else {}
    variables = {"PATH": os.environ["PATH"], "HOME": str(home), "COLUMNS": "100", **signed_in, **more}
    done = subprocess.run([PROGRAM, *arguments], env=variables, input=given, capture_output=True, text=True)
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


def test_alone_it_says_where_one_stands(stack: Stack, place: Place, tmp_path: Path) -> None:
    assert "ultravect login" in ran(None, tmp_path)
    nothing = ran(None, tmp_path, code=3, ULTRAVECT_URL="http://127.0.0.1:9")
    assert "ultravect serve" in nothing
    unknown = ran(None, tmp_path, code=3, ULTRAVECT_URL=stack.url, ULTRAVECT_TOKEN="uv_nobody")
    assert f"ultravect login {stack.url}" in unknown
    place.file("a\n1\n").job(columns="[missing]")
    run = place.run()
    said = ran(stack, tmp_path)
    assert f"at {stack.url}" in said
    assert f"(run {run.id})" in said
    assert f"first: ultravect show {run.id}" in said


def test_a_job_is_edited(stack: Stack, place: Place, tmp_path: Path) -> None:
    place.file("a\n1\n").job()
    editor = tmp_path / "editor"
    editor.write_text("#!/bin/sh\nsed -i 's/^into: {/into: {rejects: 2, /' \"$1\"\n")
    editor.chmod(0o755)
    said = ran(stack, tmp_path, "edit", place.name, given="y\n", EDITOR=str(editor))
    assert "+into: {rejects: 2," in said
    assert "revision 2" in said
    assert place.client.job(place.name).structure["into"]["rejects"] == 2
    # the same once more: a key that stands there twice is said with its line, and nothing is saved
    wrong = ran(stack, tmp_path, "edit", place.name, given="n\n", code=1, EDITOR=str(editor))
    assert "line 4" in wrong
    assert place.client.job(place.name).revision == 2
    assert "nothing was changed" in ran(stack, tmp_path, "edit", place.name, EDITOR="true")
    assert "cannot be started" in ran(stack, tmp_path, "edit", place.name, code=2, EDITOR="no-such-editor")


def test_what_differs_is_shown(stack: Stack, place: Place, tmp_path: Path) -> None:
    text = place.file("a\n1\n").job()
    file = tmp_path / "job.yaml"
    file.write_text(text + "labels: [reference]\n")
    assert "+labels: [reference]" in ran(stack, tmp_path, "diff", str(file))
    assert "one revision" in ran(stack, tmp_path, "diff", place.name)
    place.client.save_job(place.name, text + "about: huts\n")
    assert "+about: huts" in ran(stack, tmp_path, "diff", place.name)
    assert "-about: huts" in ran(stack, tmp_path, "diff", place.name, "2", "1")
    assert json.loads(ran(stack, tmp_path, "diff", place.name, "1", "2", "--json"))["lines"][-1] == "+about: huts"
    assert "no revision 7" in ran(stack, tmp_path, "diff", place.name, "7", code=2)
    file.write_text("job: [")
    assert "not valid YAML" in ran(stack, tmp_path, "diff", str(file), code=1)


def test_logs_are_printed_and_followed(stack: Stack, place: Place, tmp_path: Path) -> None:
    place.file("a\n1\nx\n").job(columns="[a integer]", into="rejects: 1")
    place.sql("CREATE TABLE {t} (a int)")
    with place.locked():
        started = place.client.run(place.name)
        variables = os.environ | {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token}
        following = subprocess.Popen(
            [PROGRAM, "logs", str(started.id), "-f"], env=variables, stdout=subprocess.PIPE, text=True
        )
    place.client.wait(started.id)
    said, _ = following.communicate(timeout=60)
    assert "verified: 1 row" in said
    assert "verified" in ran(stack, tmp_path, "logs", place.name)
    assert ran(stack, tmp_path, "logs", place.name, "--search", "nothing like this") == ""
    lines = ran(stack, tmp_path, "logs", place.name, "--json").splitlines()
    assert {"at", "leg", "level", "text"} == set(json.loads(lines[0]))
    assert "was not run yet" in ran(stack, tmp_path, "logs", _other(place), code=2)


def _other(place: Place) -> str:
    name = f"{place.name}-other"
    place.client.save_job(name, place.client.job(place.name).file.replace(f"job: {place.name}", f"job: {name}"))
    return name


def _completed(stack: Stack, home: Path, line: str, **more: str) -> list[str]:
    words = line.split(" ")
    asked = {"_ULTRAVECT_COMPLETE": "complete_bash", "COMP_WORDS": line, "COMP_CWORD": str(len(words) - 1)}
    return ran(stack, home, **asked, **more).split()


def test_the_shell_completes(stack: Stack, place: Place, tmp_path: Path) -> None:
    place.file("a\n1\n").job()
    assert {"rehearse", "rejects", "rerun", "restore", "retry-rejects"} <= set(
        _completed(stack, tmp_path, "ultravect re")
    )
    assert place.name in _completed(stack, tmp_path, f"ultravect run {place.name[:2]}")
    assert _completed(stack, tmp_path, "ultravect look ware") == ["warehouse"]
    assert f"{place.name}.csv" in _completed(stack, tmp_path, f"ultravect look incoming {place.name}")
    assert "add" in _completed(stack, tmp_path, "ultravect connection a")
    # without a service there is nothing to propose, and no message
    assert _completed(stack, tmp_path, "ultravect run x", ULTRAVECT_URL="http://127.0.0.1:9") == []
    for shell in ("bash", "zsh", "fish"):
        assert "_ULTRAVECT_COMPLETE" in ran(None, tmp_path, "completion", shell)
    assert "bash, zsh or fish" in ran(None, tmp_path, "completion", "csh", code=2)


@pytest.mark.parametrize("width", [60, 100, 160])
def test_tables_fit_a_terminal(stack: Stack, place: Place, width: int) -> None:
    text = place.file("a\n1\n").job()
    place.client.save_job(place.name, text + f"about: {'a long text ' * 30}\n")
    place.run()
    variables = {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token}
    for command in (["jobs"], ["runs"], ["look", "warehouse"]):
        shown = terminal_output([PROGRAM, *command], variables, width)
        plain = [line.replace("\r", "") for line in shown.split("\n")]
        rows = [line for line in plain if place.name in line]
        assert rows, shown
        # a thing is a line: names that are cut end with …
        assert len(rows) <= 2


def test_files_that_are_alike_are_one_line(stack: Stack, place: Place, tmp_path: Path) -> None:
    folder = stack.files / place.name
    folder.mkdir()
    for number in range(40):
        (folder / f"nights-{number:04}.csv").write_text("a\n1\n")
    (folder / "part-00af3b9c1d2e.csv").write_text("a\n1\n")
    (folder / "readme.csv").write_text("a\n1\n")
    found = ran(stack, tmp_path, "look", "incoming", place.name)
    lines = [line.split() for line in found.splitlines() if place.name in line]
    assert [line[:2] for line in lines] == [
        [f"{place.name}/nights-*.csv", "40"], [f"{place.name}/part-00af3b9c1d2e.csv", "4"], [f"{place.name}/readme.csv", "4"],
    ]  # fmt: skip
    assert found.count("nights-") == 1
    assert ran(stack, tmp_path, "look", "incoming", place.name, "--each").count("nights-") == 40
