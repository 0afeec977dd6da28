"""The documentation says what there is: codes, keys, commands, pictures, links."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest
import yaml
from devtools import api
from devtools.messages import pages

from ultravect.core.kinds.translations import translation_page
from ultravect.core.model.jobs.job import job_schema

ROOT = Path(__file__).parent.parent
NOT_CODES = {
    "verify-full", "no-cache", "date-time", "content-encoding", "content-length", "last-modified", "weigh-slips",
    "partner-bookings", "cache-control", "content-type", "no-store", "x-content-type-options", "sign-in", "sign-in-limited", "users-tokens",
    "ultravect-unverified", "python-tds", "service-identity", "schema-id", "spec-id", "ca-certificates", "namespace-separator",
}  # fmt: skip
BUILT_FROM_PARTS = {
    "job-unknown", "token-unknown", "upload-unknown", "rule-unknown", "connection-file-invalid", "layout-file-invalid", "job-file-invalid",
    "type-narrower", "type-different",
}  # fmt: skip


def test_every_code_is_documented_and_no_other() -> None:
    sources = [
        path.read_text() for part in ("core", "service") for path in (ROOT / "src/ultravect" / part).rglob("*.py")
    ]
    used = {code for text in sources for code in re.findall(r'"([a-z]+(?:-[a-z]+)+)"', text)} - NOT_CODES
    shown = set(re.findall(r"`([a-z]+(?:-[a-z]+)+)`", (ROOT / "docs/messages.md").read_text()))
    assert shown == used | BUILT_FROM_PARTS


def test_every_key_of_a_job_file_is_in_the_reference() -> None:
    reference = (ROOT / "docs/job-file.md").read_text()
    schema = job_schema()
    for model in (schema, *schema["$defs"].values()):
        for key in model["properties"]:
            if model.get("title") != "BooleanWords" and key != "values":
                assert re.search(rf"`(values\.)?{key}`", reference), key


@pytest.mark.parametrize(
    "page", sorted(path.relative_to(ROOT) for path in [*ROOT.glob("*.md"), *ROOT.glob("docs/**/*.md")])
)
def test_links_lead_somewhere(page: Path) -> None:
    text = (ROOT / page).read_text()
    for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", text):
        assert (ROOT / page.parent / target).exists(), target
    assert not re.search(r"/work/|/root/|/tmp/", text)


def test_pictures_are_few_and_linked() -> None:
    readme = (ROOT / "README.md").read_text()
    pictures = sorted((ROOT / "docs/screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    assert [picture.name for picture in pictures if f"docs/screenshots/{picture.name}" not in readme] == []


def test_commands_in_the_guide_exist() -> None:
    known = subprocess.run(
        [sys.executable, "-m", "ultravect.cli.main", "--help"], capture_output=True, text=True
    ).stdout
    for page in ("README.md", "docs/guide.md", "docs/operations.md"):
        for command in re.findall(r"^(?:\$ )?ultravect (\w+)", (ROOT / page).read_text(), re.M):
            assert re.search(rf"^\s*{command}\b", known, re.M), command


def test_the_page_of_types_is_what_the_dialects_say() -> None:
    # made anew with ./dev types
    assert (ROOT / "docs/types.md").read_text() == translation_page()


def test_every_code_has_a_page_that_is_in_step_with_the_table() -> None:
    made = pages(ROOT / "docs")
    found = {path.name: path.read_text() for path in (ROOT / "docs/messages").glob("*.md")}
    assert found == made, "write them anew: ./dev messages"
    examples = yaml.safe_load((ROOT / "docs/message-examples.yaml").read_text())
    assert {f"{code}.md" for code in examples} <= set(made)


def test_generated_types_are_those_of_the_api() -> None:
    # made anew with ./dev api; in a process of its own, which has settings without a database
    made = "import json; from devtools import api; print(json.dumps(api.description()))"
    done = subprocess.run([sys.executable, "-c", made], cwd=ROOT, capture_output=True, text=True, check=True)
    document = json.loads(done.stdout)
    assert api.CLIENT.read_text() == api.client_models(document)
    assert api.CONSOLE.read_text() == api.console_types(document)
    client = "from devtools.async_client import made; print(made(), end='')"
    done = subprocess.run([sys.executable, "-c", client], cwd=ROOT, capture_output=True, text=True, check=True)
    assert api.ASYNC.read_text() == done.stdout


def test_what_the_pages_say_of_dev_is_there() -> None:
    """As it was found: a page named a verb that the script did not take."""
    script = (ROOT / "dev").read_text()
    (verbs,) = re.findall(r"^  (demo \|.*)\)$", script, re.MULTILINE)
    taken = set(verbs.split(" | "))
    pages = [*ROOT.glob("*.md"), *ROOT.glob("docs/*.md")]
    named = {verb for page in pages for verb in re.findall(r"\./dev (?!does)([a-z]+)", page.read_text())}
    assert named <= taken
    assert set(re.findall(r"^\./dev ([a-z]+)", script, re.MULTILINE)) == taken
