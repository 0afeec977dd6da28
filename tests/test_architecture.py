"""The rules of the architecture: who may import whom, and that nothing names a kind outside its own module."""

from __future__ import annotations

import collections
import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent


def test_import_rules() -> None:
    done = subprocess.run(
        [str(Path(sys.executable).parent / "lint-imports"), "--no-cache"], cwd=ROOT, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout


def test_differences_between_kinds_are_asked_of_them() -> None:
    pattern = re.compile(r"isinstance\(\S+, (Database|Storage|FilesTarget|\w+Database|\w+Storage)\)")
    found = [str(path) for path in (ROOT / "src").rglob("*.py") if pattern.search(path.read_text())]
    assert found == []


def test_no_kind_is_asked_for_by_name() -> None:
    found = [
        f"{path}: {line}"
        for path in (ROOT / "src").rglob("*.py")
        for line in path.read_text().splitlines()
        if re.search(r"(kind|dialect)\w*\s*(==|!=|in)\s*[\"'(\[]+(postgresql|folder|mariadb|sqlite|duckdb)", line)
    ]
    assert found == []


# figures of speech and words of our own, for which the trade has a standard term: said, after, next to, in addition to, fix, no one
_WORDS = (
    "told", "tells", "telling", "mend", "mends", "mended", "twin", "twins", "nobody", "whoever", "somebody", "anybody", "behind",
    "beside", "nursery", "suspects", "himself", "herself", "fate",
)  # fmt: skip
_TEXTS = (
    "src/**/*.py",
    "src/**/*.pyx",
    "console/src/**/*.svelte",
    "console/src/**/*.ts",
    "docs/**/*.md",
    "docs/*.yaml",
    "*.md",
)


def test_words_that_are_not_plain_do_not_come_back() -> None:
    pattern = re.compile(rf"\b({'|'.join(_WORDS)})\b", re.IGNORECASE)
    found = [
        f"{path.relative_to(ROOT)}:{number}: {line.strip()[:100]}"
        for form in _TEXTS
        for path in ROOT.glob(form)
        for number, line in enumerate(path.read_text().splitlines(), 1)
        if pattern.search(line.replace("_", " "))
    ]
    assert found == []


def _modules(ending: str) -> list[Path]:
    """Those that people write: neither migrations nor what is generated."""
    found = (ROOT / "src/ultravect").rglob(ending)
    return [path for path in found if path.parent.name != "migrations" and path.name != "generated.py"]


def test_no_module_is_too_long() -> None:
    """A reader has to take one in at a glance."""
    lines = {str(path.relative_to(ROOT)): len(path.read_text().splitlines()) for path in _modules("*.py")}
    assert {name: count for name, count in lines.items() if count > 320} == {}


def test_no_folder_is_too_full() -> None:
    """About a dozen modules: more than fifteen are not found by looking at the names."""
    count = collections.Counter(
        str(path.parent.relative_to(ROOT / "src/ultravect"))
        for path in (*_modules("*.py"), *_modules("*.pyx"))
        if path.name != "__init__.py"
    )
    assert {folder: modules for folder, modules in count.items() if modules > 15} == {}
