"""The rules of the architecture: who may import whom, and that nothing names a kind outside its own module."""

from __future__ import annotations

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


def test_files_of_tests_have_names_of_their_own() -> None:
    """Outside packages pytest imports them by their name alone."""
    loose = [path for path in (ROOT / "tests").rglob("test_*.py") if not (path.parent / "__init__.py").exists()]
    names = [path.name for path in loose]
    assert sorted(names) == sorted(set(names))


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
