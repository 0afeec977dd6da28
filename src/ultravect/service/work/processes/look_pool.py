"""Answers what requests look at in processes of their own, within limits of memory, processor and time.

What is read there comes from outside: it may be made to exhaust a machine, or to crash a library. Then its process ends, the
request gets an error that says so, and the service goes on.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from contextvars import ContextVar
from typing import Any

import structlog
from django.conf import settings
from django.db import connections
from pydantic import BaseModel, ConfigDict, TypeAdapter, ValidationError

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import DeclarationError
from ultravect.core.model.problems import Problem as FileProblem
from ultravect.service.work.processes.forks import ForkServer
from ultravect.service.work.processes.look_process import TOO_LARGE
from ultravect.service.work.processes.look_processes import LookFailed, LookProcesses
from ultravect.service.work.processes.messages import ErrorSaid
from ultravect.service.work.workers.site_looks import look_elsewhere
from ultravect.service.work.workers.sites import ANYWHERE, HOME, sites_of_specs

log = structlog.get_logger()
asking: ContextVar[str] = ContextVar("asking", default="")
"""Who is looking, in the request that is dealt with: "" for the service itself."""


class LookPool:
    """``at_once``: how many processes may look at the same time; others wait for them."""

    def __init__(self, at_once: int, forks: ForkServer) -> None:
        self._processes = LookProcesses(at_once, forks)

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
        return _understood(name, said, seconds)

    def look_here(self, name: str, seconds: float, arguments: Mapping[str, Any]) -> bytes | None:
        """What a process of this machine says: see ``LookProcesses.ask``."""
        # a slow look must not hold a connection to the records
        connections.close_all()
        return self._processes.ask(name, seconds, arguments, settings.LOOK_MEMORY_BYTES, asking.get())


class _Problem(BaseModel):
    pointer: str
    message: str
    hint: str = ""
    line: int | None = None


class _LookError(ErrorSaid):
    problems: list[_Problem] | None = None


class _Said(BaseModel):
    """What a look says, wherever it was looked."""

    model_config = ConfigDict(extra="forbid")

    answer: Any = None
    error: _LookError | None = None
    unexpected: str = ""


_OBJECT: TypeAdapter[Any] = TypeAdapter(dict[str, Any])
_ANSWERS: dict[str, TypeAdapter[Any]] = {
    "objects": _OBJECT,
    "preview": _OBJECT,
    "query": _OBJECT,
    "bytes": _OBJECT,
    "ask": _OBJECT,
    "probe": _OBJECT,
    "check": _OBJECT,
    "new_files": TypeAdapter(dict[str, str]),
    "rehearse": _OBJECT,
    "compare": _OBJECT,
    "compare_objects": _OBJECT,
    "draft": TypeAdapter(str | dict[str, Any]),
    "undoable": TypeAdapter(None),
    "feed": TypeAdapter(None),
    "draft_feed": TypeAdapter(str | dict[str, Any]),
    "marks": TypeAdapter(list[dict[str, Any]]),
    "set_mark": TypeAdapter(list[dict[str, Any]]),
    "reset_mark": TypeAdapter(list[dict[str, Any]]),
    "drop_log": TypeAdapter(bool),
    "guard_log": _OBJECT,
}
"""The form of each answer, as far as requests rely on it."""


def _understood(name: str, said: bytes | None, seconds: float) -> Any:
    if said is None:
        raise UltravectError(
            "time-limit",
            f"it took longer than {seconds:g} s and was given up",
            hint="look at less, or ask for a part of it",
        )
    if not said:
        raise TOO_LARGE
    try:
        data = _Said.model_validate_json(said)
        if "answer" in data.model_fields_set:
            return _ANSWERS[name].validate_python(data.answer)
    except ValidationError as wrong:
        first = wrong.errors(include_url=False, include_input=False)[0]
        log.error(
            "a look was answered by what is no answer", look=name, reason=f"{first['loc']}: {first['msg']}"[:300]
        )
        raise UltravectError(
            "worker-refused", "who looked for it gives an answer that is none", hint="see which worker it was"
        ) from None
    if data.error is None:
        raise LookFailed(data.unexpected)
    error = data.error
    if error.problems:
        problems = [FileProblem.from_dict(problem.model_dump(exclude_none=True)) for problem in error.problems]
        raise DeclarationError(error.detail, problems, error.code)
    raise UltravectError(error.code, error.detail, hint=error.hint, **error.where)


FORKS = ForkServer(settings.ROOTS)
"""Where the legs and looks of this process come from."""

POOL = LookPool(int(os.environ.get("ULTRAVECT_LOOKS_AT_ONCE", "4")), FORKS)
