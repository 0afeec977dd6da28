"""What a process does that looks at something for a request: it answers one question within its limits, and ends."""

from __future__ import annotations

import ctypes
import json
import logging
import os
import signal
import socket
from typing import Any, NoReturn

import pyarrow as pa

from ultravect.core.engine.objects.masking import Mask
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import DeclarationError
from ultravect.service.work.processes.limits import Limits
from ultravect.service.work.processes.looks import connections_in, look

TOO_LARGE = UltravectError(
    "too-large",
    "it takes more memory than a look may have, and was given up",
    hint="a smaller file, a layout that reads only a part of it, or fewer columns; the service can be started with a larger "
    "ULTRAVECT_LOOK_MEMORY",
)


def error_as_dict(error: UltravectError) -> dict[str, Any]:
    problems = [problem.as_dict() for problem in error.problems] if isinstance(error, DeclarationError) else None
    return {**error.as_dict(), "problems": problems}


_MASKED = ("probe", "check", "rehearse")
"""Looks whose answers have messages of libraries and servers in them; all others are rows, marks or files, which are as they are."""


def _answer(task: dict[str, Any]) -> dict[str, Any]:
    mask = Mask.of_connections(connections_in(task["arguments"]))
    mask.in_logs()
    try:
        answer = look(task["name"], task["arguments"])
        return {"answer": mask.data(answer) if task["name"] in _MASKED else answer}
    except UltravectError as error:
        return {"error": mask.data(error_as_dict(error))}
    except (MemoryError, pa.ArrowMemoryError):
        return {"error": TOO_LARGE.as_dict()}
    except RecursionError:
        deep = UltravectError("too-deep", "it is nested more deeply than can be read", hint="flatten it first")
        return {"error": deep.as_dict()}
    except Exception as error:
        logging.getLogger(__name__).exception("a look failed unexpectedly")
        return {"unexpected": type(error).__name__}


_M_ARENA_MAX = -8
"""Of malloc.h of the C library."""


def _be_thrifty() -> None:
    """The limit of memory counts what is reserved too: each thread of a library would reserve an arena of its own."""
    ctypes.CDLL(None).mallopt(_M_ARENA_MAX, 2)
    pa.set_io_thread_count(2)
    os.environ["TOKIO_WORKER_THREADS"] = "2"


def serve_look(asker: socket.socket) -> NoReturn:
    """Takes a question from ``asker``, answers it, and ends the process."""
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    _be_thrifty()
    try:
        # who it is, the system says with this
        asker.sendall(b"\n")
    except OSError:
        os._exit(0)  # no one asks any more
    with asker.makefile("rwb") as stream:
        task = json.loads(stream.readline() or b"null")
        if task is not None:
            Limits(task["memory"], task["cpu_seconds"]).apply()
            try:
                said = json.dumps(_answer(task)).encode()
            except MemoryError:
                said = json.dumps({"error": TOO_LARGE.as_dict()}).encode()
            stream.write(said + b"\n")
            stream.flush()
    os._exit(0)
