"""What a check, a preview or a run has to say about a job."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """``place`` is the path in the job file (``into.table``), or "" where it is about the data."""

    severity: Severity
    code: str
    message: str
    place: str = ""
    fix: str = ""

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)
