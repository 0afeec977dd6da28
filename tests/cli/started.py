"""Starts commands from a process that has imported what they need, so that each takes as long as its work: most of what a command
takes by itself are imports, and tests run hundreds of them. Each runs in a process of its own, with its own arguments and environment."""

from __future__ import annotations

import importlib
import json
import os
import subprocess
import sys
import traceback
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

WIDTH = "160"
"""The width of the terminal, which is looked at when modules are imported."""


class CommandStarter:
    """One process, from which commands are forked one after the other."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._process = subprocess.Popen(
            [sys.executable, __file__],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "COLUMNS": WIDTH},
        )

    def run(self, arguments: Sequence[str], environment: Mapping[str, str], given: str) -> tuple[int, str]:
        """The exit code of a command, and what it has printed: first the output, then the errors."""
        names = {name: str(self._folder / name) for name in ("given", "output", "errors")}
        Path(names["given"]).write_text(given)
        task = {"arguments": [*arguments], "environment": {**environment}, "folder": os.getcwd(), **names}
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(json.dumps(task) + "\n")
        self._process.stdin.flush()
        code = int(self._process.stdout.readline())
        return code, Path(names["output"]).read_text() + Path(names["errors"]).read_text()

    def close(self) -> None:
        assert self._process.stdin is not None
        self._process.stdin.close()
        self._process.wait(10)


def _carry_out(task: Mapping[str, str]) -> NoReturn:
    from ultravect.cli.main import main

    for name, number, flags in (("given", 0, os.O_RDONLY), ("output", 1, os.O_WRONLY), ("errors", 2, os.O_WRONLY)):
        opened = os.open(task[name], flags | (os.O_CREAT | os.O_TRUNC if number else 0), 0o600)
        os.dup2(opened, number)
        os.close(opened)
    # what the starter has read ahead of its own input is not the command's
    sys.stdin = open(0, closefd=False)  # noqa: SIM115
    os.environ.clear()
    os.environ.update(task["environment"])  # type: ignore[arg-type]
    os.chdir(task["folder"])
    sys.argv = ["ultravect", *task["arguments"]]
    code = 0
    try:
        main()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


def _start() -> None:
    from ultravect.cli import main

    for module in {found[0] for found in (*main.COMMANDS.values(), *main.GROUPS.values())}:
        importlib.import_module(f"ultravect.cli.commands.{module}")
    for line in sys.stdin:
        child = os.fork()
        if child == 0:
            _carry_out(json.loads(line))
        print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)


if __name__ == "__main__":
    _start()
