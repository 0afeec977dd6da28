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


def test_no_kind_is_asked_for_by_name() -> None:
    found = [
        f"{path}: {line}"
        for path in (ROOT / "src").rglob("*.py")
        for line in path.read_text().splitlines()
        if re.search(r"(kind|dialect)\w*\s*(==|!=|in)\s*[\"'(\[]+(postgresql|folder|mariadb|sqlite|duckdb)", line)
    ]
    assert found == []
