"""A state that is made once and copied for each test that needs a service of its own."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

_ROOT = Path(__file__).resolve().parent.parent
_MADE_OF = (
    "src/ultravect/service/records/**/*.py",
    "devtools/stack.py",
    "devtools/postgres.py",
    "devtools/prepared.py",
    "constraints.txt",
)
_KEPT_SECONDS = 24 * 3600


@contextmanager
def prepared_state(prepare: Callable[[Path], None]) -> Iterator[Path]:
    """The folder that ``prepare`` has filled, for as long as the context lasts: made anew where what it is made of has changed."""
    folder = Path("/var/tmp") / f"ultravect-prepared-{os.getuid()}-{_digest()}"
    with open(f"{folder}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            _remove_old(folder)
            making = folder.with_name(f"{folder.name}.making")
            shutil.rmtree(making, ignore_errors=True)
            making.mkdir(mode=0o755)
            prepare(making)
            making.rename(folder)
        yield folder


def _digest() -> str:
    found = hashlib.sha256()
    for pattern in _MADE_OF:
        for path in sorted(_ROOT.glob(pattern)):
            found.update(path.read_bytes())
    return found.hexdigest()[:12]


def _remove_old(folder: Path) -> None:
    for path in folder.parent.glob(f"ultravect-prepared-{os.getuid()}-*"):
        if path.is_dir() and time.time() - path.stat().st_mtime > _KEPT_SECONDS:
            shutil.rmtree(path, ignore_errors=True)
