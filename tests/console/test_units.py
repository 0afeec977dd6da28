"""What the console works out by itself, tested where it is: job files, select lists, changes of two persons, maps, charts."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

ROOT = Path(__file__).parent.parent.parent


def test_the_console_by_itself() -> None:
    newer = ROOT / ".dev" / "node" / "node_modules" / "node" / "bin"  # where the machine's own is too old
    variables = os.environ | {"PATH": f"{newer}:{os.environ['PATH']}", "CI": "1"}
    done = subprocess.run(
        ["npm", "test", "--silent"], cwd=ROOT / "console", env=variables, capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stdout + done.stderr
