"""The API as its OpenAPI document describes it, held against requests that a fuzzer makes of that document."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from devtools.stack import Stack, temporary_stack

# what a fuzzer may not do to the service that it is tried on: end its own token, or lock its user out
_SPARED = ["/api/v1/tokens/{number}", "/api/v1/users/{name}", "/api/v1/session"]
# 422 also says that a request was understood, and what it is about does not allow it: a table that is missing, say
_CONFIGURATION = """
[checks]
positive_data_acceptance.expected-statuses = ["2xx", "401", "403", "404", "409", "422", "428", "429"]
[phases.coverage]
# that a path takes no other method is the framework's, and the same for all
unexpected-methods = []
"""


@pytest.fixture(scope="module")
def own_stack() -> Iterator[Stack]:
    with temporary_stack("fuzzed") as started:
        yield started


@pytest.mark.timeout(500)
def test_a_fuzzer_finds_no_fault(own_stack: Stack, tmp_path: Path) -> None:
    document = tmp_path / "openapi.json"
    document.write_text(httpx.get(f"{own_stack.url}/api/openapi.json?format=json").text)
    (tmp_path / "schemathesis.toml").write_text(_CONFIGURATION)
    spared = [part for path in _SPARED for part in ("--exclude-path", path)]
    done = subprocess.run(
        [
            str(Path(sys.executable).with_name("schemathesis")), "run", str(document), "--url", own_stack.url,
            "--header", f"Authorization: Bearer {own_stack.token}", "--max-examples", "1", "--seed", "1", "--workers", "2",
            "--phases", "examples,coverage", "--generation-database", "none",
            # how fast a busy machine makes up requests and answers them is not what is tested
            "--suppress-health-check", "all", "--request-timeout", "60", *spared,
        ],
        cwd=tmp_path, capture_output=True, text=True, timeout=400,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout.partition("WARNINGS")[0][-12_000:] + done.stdout[-1_000:]
