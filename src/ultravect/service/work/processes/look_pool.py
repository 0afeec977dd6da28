"""Answers what requests look at in processes of their own, within limits of memory, processor and time.

What is read there comes from outside: it may be made to exhaust a machine, or to crash a library. Then its process ends, the
request gets an error that says so, and the service goes on.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from typing import Any

from django.conf import settings
from django.db import connections

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import DeclarationError
from ultravect.core.model.problems import Problem as FileProblem
from ultravect.service.work.processes.look_process import TOO_LARGE
from ultravect.service.work.processes.look_processes import LookFailed, LookProcesses
from ultravect.service.work.workers.site_looks import look_elsewhere
from ultravect.service.work.workers.sites import ANYWHERE, HOME, sites_of_specs


class LookPool:
    """``at_once``: how many processes may look at the same time; others wait for them."""

    def __init__(self, at_once: int) -> None:
        self._processes = LookProcesses(at_once, settings.ROOTS)

    def look(self, name: str, *, seconds: float | None = None, **arguments: Any) -> Any:
        """The answer of ``looks.LOOKS[name]``; ``seconds`` it may take, the settings' number if left out.

        UltravectError as it was raised there, or for a limit that it went beyond.
        """
        seconds = seconds or settings.LOOK_SECONDS
        sites = sites_of_specs(arguments)
        said = (
            look_elsewhere(sites, name, seconds, arguments)
            if not sites <= {HOME, ANYWHERE}
            else self.look_here(name, seconds, arguments)
        )
        return _understood(said, seconds)

    def look_here(self, name: str, seconds: float, arguments: Mapping[str, Any]) -> bytes | None:
        """What a process of this machine says: see ``LookProcesses.ask``."""
        # a slow look must not hold a connection to the records
        connections.close_all()
        return self._processes.ask(name, seconds, arguments, settings.LOOK_MEMORY_BYTES)

    def warm(self) -> None:
        self._processes.warm()


def _understood(said: bytes | None, seconds: float) -> Any:
    if said is None:
        raise UltravectError(
            "time-limit",
            f"it took longer than {seconds:g} s and was given up",
            hint="look at less, or ask for a part of it",
        )
    if not said:
        raise TOO_LARGE
    data = json.loads(said)
    if "answer" in data:
        return data["answer"]
    if "unexpected" in data:
        raise LookFailed(data["unexpected"])
    error = data["error"]
    problems = error.pop("problems", None)
    if problems:
        raise DeclarationError(
            error["detail"], [FileProblem.from_dict(problem) for problem in problems], error["code"]
        )
    raise UltravectError(error["code"], error["detail"], hint=error["hint"], **error["where"])


POOL = LookPool(int(os.environ.get("ULTRAVECT_LOOKS_AT_ONCE", "4")))
