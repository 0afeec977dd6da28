"""The processes that a service, or a worker, has: never those of another one that runs on this machine at the same time."""

from __future__ import annotations

import time
from pathlib import Path

_TRIES, _PAUSE_SECONDS = 600, 0.1
_FORK_SERVER = "ultravect.service.work.processes.fork_server"


def fork_server(owner: int, *, other_than: int = 0) -> int:
    """The fork server of a service or worker, the process ``owner``; one that has died is replaced when the next process is needed."""
    for _ in range(_TRIES):
        found = [pid for pid in _named(_FORK_SERVER) if _parent(pid) == owner and pid != other_than]
        if found:
            return found[0]
        time.sleep(_PAUSE_SECONDS)
    raise AssertionError(f"process {owner} has no fork server")


def leg_processes(owner: int) -> list[int]:
    """The processes of legs, slices and looks that come from a service or worker, the process ``owner``."""
    server = fork_server(owner)
    return [pid for pid in _named(_FORK_SERVER) if _parent(pid) == server]


def _named(name: str) -> list[int]:
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                command = (entry / "cmdline").read_bytes().decode("utf-8", "replace")
            except OSError:
                continue
            if name in command and not command.startswith("bwrap"):
                found.append(int(entry.name))
    return found


def _parent(pid: int) -> int:
    """The process that started another, whatever makes namespaces in between; 0 of one that has ended."""
    try:
        parent = int(Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[1])
        between = Path(f"/proc/{parent}/cmdline").read_bytes().startswith(b"bwrap")
    except OSError:
        return 0
    return _parent(parent) if between else parent
