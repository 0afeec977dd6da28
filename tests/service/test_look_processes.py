"""Processes for looks that end before they begin, as on a machine that is short of memory for a moment."""

from __future__ import annotations

import json
import socket

import pytest

from ultravect.service.work.processes.forks import ForkServer
from ultravect.service.work.processes.look_processes import LookProcesses

_MEMORY = 4 << 30


def _ended() -> tuple[socket.socket, int]:
    ours, theirs = socket.socketpair()
    theirs.close()
    return ours, 0


@pytest.mark.parametrize("ends", [1, 2])
def test_another_process_answers_once(monkeypatch: pytest.MonkeyPatch, ends: int) -> None:
    forks = ForkServer([])
    processes = LookProcesses(1, forks)
    begins, left = forks.fork, [_ended() for _ in range(ends)]
    monkeypatch.setattr(forks, "fork", lambda what: left.pop() if left else begins(what))
    if ends == 1:
        said = processes.ask("no such look", 30, {}, _MEMORY)
        assert json.loads(said or b"") == {"unexpected": "KeyError"}
    else:
        with pytest.raises(OSError, match=r"ended|closed|Broken|reset"):
            processes.ask("no such look", 30, {}, _MEMORY)
    assert not left
