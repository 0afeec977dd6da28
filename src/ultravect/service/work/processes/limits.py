"""What a process that reads what comes from outside may use."""

from __future__ import annotations

import os
import resource
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Limits:
    """``memory`` in bytes beyond what the process has when it begins, ``seconds`` of the processor's time; None: no limit."""

    memory: int
    seconds: float | None = None

    def apply(self) -> None:
        """From here on; an allocation that goes beyond is refused, and a process that computes for too long is ended."""
        pages = int(Path("/proc/self/statm").read_text().split()[0])
        _lower(resource.RLIMIT_AS, pages * os.sysconf("SC_PAGE_SIZE") + self.memory)
        _lower(resource.RLIMIT_CORE, 0)
        if self.seconds is not None:
            used = resource.getrusage(resource.RUSAGE_SELF)
            _lower(resource.RLIMIT_CPU, int(used.ru_utime + used.ru_stime + self.seconds) + 1)


def _lower(kind: int, value: int) -> None:
    _, most = resource.getrlimit(kind)
    if most == resource.RLIM_INFINITY or value < most:
        resource.setrlimit(kind, (value, value))
