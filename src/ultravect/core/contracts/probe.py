"""Testing a connection step by step: each does what a copy would do, and says what it found."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from ultravect.core.errors import UltravectError

REACH_SECONDS = 10.0
SUPERUSER = (
    "; warning: this user may do everything on the server, files and programs included: use one that may do less"
)


@dataclass(frozen=True)
class Step:
    """``run`` does it and says what was found; UltravectError says why it could not."""

    name: str
    run: Callable[[], str]


@dataclass(frozen=True)
class StepResult:
    """``state``: passed, failed, or not reached; ``seconds`` it took."""

    step: str
    state: str
    detail: str
    seconds: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class ProbeResult:
    """How far a test came; ``error`` is that of the step that failed."""

    steps: list[StepResult]
    error: UltravectError | None

    @classmethod
    def of_error(cls, step: str, error: UltravectError) -> ProbeResult:
        """A test that failed in its first step."""
        return cls([StepResult(step, "failed", error.detail)], error)

    def as_dict(self) -> dict[str, Any]:
        return {
            "passed": self.error is None,
            "steps": [step.as_dict() for step in self.steps],
            "error": self.error.as_dict() if self.error else None,
        }


def run_steps(steps: Sequence[Step]) -> ProbeResult:
    """Runs the steps up to the first that fails."""
    done: list[StepResult] = []
    error: UltravectError | None = None
    for step in steps:
        if error is not None:
            done.append(StepResult(step.name, "not reached", ""))
            continue
        started = time.monotonic()
        try:
            detail = step.run()
            done.append(StepResult(step.name, "passed", detail, round(time.monotonic() - started, 3)))
        except UltravectError as raised:
            error = raised
            done.append(StepResult(step.name, "failed", raised.detail, round(time.monotonic() - started, 3)))
    return ProbeResult(done, error)


def resolve_host(connection: str, host: str, port: int) -> str:
    """The addresses of a host."""
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise UltravectError(
            "unknown-host",
            f"connection {connection}: the host {host!r} is not known here",
            hint="check the host for typing errors",
            connection=connection,
        ) from None
    addresses = list(dict.fromkeys(str(item[4][0]) for item in found))
    return f"host {host} is {', '.join(addresses[:3])}"


def reach_host(connection: str, host: str, port: int) -> str:
    """Whether something listens at a port."""
    try:
        socket.create_connection((host, port), timeout=REACH_SECONDS).close()
    except ConnectionRefusedError:
        raise UltravectError(
            "port-refused",
            f"connection {connection}: {host}:{port} refuses connections: nothing listens on that port",
            hint="is the server running, and is the port right?",
            connection=connection,
        ) from None
    except OSError as error:
        raise UltravectError(
            "host-unreachable",
            f"connection {connection}: {host}:{port} cannot be reached: {error.strerror or 'no answer in time'}",
            hint="check host, port and firewalls in between",
            connection=connection,
        ) from None
    return f"port {port} answers"


def network_steps(connection: str, host: str, port: int) -> list[Step]:
    """The first steps of every kind that is reached over a network."""
    return [
        Step("resolve", lambda: resolve_host(connection, host, port)),
        Step("reach", lambda: reach_host(connection, host, port)),
    ]
