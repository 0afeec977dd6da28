"""What the docs show is what one gets: the tutorial's commands and the client's examples are run."""

from __future__ import annotations

import inspect
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from devtools.site import commands_page
from devtools.stack import Stack
from standins.messages import WebhookCatcher

from ultravect.client import AsyncClient, Client

DOCS = Path(__file__).parent.parent / "docs"


@pytest.fixture
def hook() -> Iterator[str]:
    server = WebhookCatcher()
    yield server.url
    server.close()


def _steps(text: str) -> Iterator[tuple[str, list[str]]]:
    """Commands of a page, each with the lines that are said to come."""
    for block in re.findall(r"```console\n(.*?)```", text, re.DOTALL):
        command, expected = "", []
        for line in block.splitlines():
            if line.startswith("$ "):
                if command:
                    yield command, expected
                command, expected = line[2:], []
            elif line.startswith("> "):
                command += "\n" + line[2:]
            elif line:
                expected.append(line)
        yield command, expected


def test_the_tutorial(stack: Stack, tmp_path: Path) -> None:
    variables = os.environ | {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token, "HOME": str(tmp_path)}
    variables["PATH"] = f"{Path(sys.executable).parent}:{variables['PATH']}"
    for command, expected in _steps((DOCS / "tutorial.md").read_text("utf-8")):
        if command.startswith("export "):
            continue  # of the service that the test has started
        done = subprocess.run(
            ["bash", "-c", command], cwd=tmp_path, env=variables, capture_output=True, text=True, timeout=120
        )
        said = done.stdout + done.stderr
        assert done.returncode == 0, f"$ {command}\n{said}"
        for line in expected:
            # columns may be wider than in the docs
            wanted = r"\s+".join(map(re.escape, line.split()))
            assert re.search(wanted, said), f"$ {command}\ndoes not say {line!r}, but:\n{said}"


def test_the_client_by_its_page(stack: Stack, hook: str) -> None:
    page = (DOCS / "client.md").read_text("utf-8")
    examples = "\n".join(re.findall(r"```python\n(.*?)```", page, re.DOTALL))
    methods = [name for name, _ in inspect.getmembers(Client, inspect.isfunction) if not name.startswith("_")]
    missing = [name for name in methods if not re.search(rf"\b{name}\(", examples)]
    assert missing == [], "methods without an example"
    assert [name for name in methods if name not in ("close", "watch") and not hasattr(AsyncClient, name)] == []

    given = {"url": stack.url, "token": stack.token, "database": stack.warehouse, "hook": hook}
    exec(compile(examples, "client.md", "exec"), given)  # noqa: S102


def test_the_page_of_commands_is_current() -> None:
    assert (DOCS / "commands.md").read_text("utf-8") == commands_page(), "run ./dev docs"


def test_the_docs_are_served(stack: Stack) -> None:
    found = httpx.get(f"{stack.url}/docs/tutorial/")
    assert (found.status_code, "step by step" in found.text) == (200, True)
    assert httpx.get(f"{stack.url}/docs/").headers["location"] == "/docs/tutorial/"
    assert httpx.get(f"{stack.url}/docs/search/search_index.json").json()["docs"]
    assert httpx.get(f"{stack.url}/docs/job.schema.json").json()["properties"]["into"]
    assert httpx.get(f"{stack.url}/docs/no-such-page/").status_code == 404
