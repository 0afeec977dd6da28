"""What a leg says while it happens, and when it has succeeded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Protocol

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.model.finding import Finding

PHASES = ("read", "shape", "stage", "publish", "verify")
NOTHING, COMMITTED, UNKNOWN = "nothing", "committed", "unknown"
"""What a run has left in its target. It is not the state: a run can fail after its rows are committed."""


class Listener(Protocol):
    """Is notified of what happens in a leg, as it happens, from either thread."""

    def phase(self, name: str, state: str) -> None:
        """``state``: running or done."""

    def progress(self, figures: dict[str, Any]) -> None: ...

    def log(self, level: str, text: str) -> None: ...

    def finding(self, finding: Finding) -> None: ...

    def planned(self, plan: LegPlan) -> None:
        """This is what will be done; nothing was written yet."""

    def rejects(self, rejects: Sequence[Reject]) -> None: ...

    def changes(self, changes: Sequence[RowChange]) -> None: ...

    def read_again(self) -> None:
        """The source is read a second time: rejects of the first reading no longer count."""

    def published(self, receipt: Receipt) -> None:
        """The rows are committed, and this is their account, whether the target keeps receipts or not."""


@dataclass
class LegResult:
    """What a leg that succeeded reports."""

    tally: Tally
    rows_before: int | None
    rows_after: int | None
    created: bool
    seconds: float
    phases: dict[str, float] = field(default_factory=dict)
    comparison: Comparison | None = None
    checksums: Mapping[str, str] | None = None
    """Of each column of the loaded rows, where the job asks for them."""

    strategy: str = ""
    """How the rows were written."""

    files: Mapping[str, int] = field(default_factory=dict)
    """How many rows were read of each file, where the job notes files."""

    gone: int = 0
    """Rows of the target that the source has no more, and that were removed or flagged."""

    mark: Mapping[str, Any] | None = None
    """Where the leg began, ``summary``, and the entry of a column ``before`` and ``after``; where the job copies what is new."""

    guards: Sequence[Mapping[str, Any]] = ()
    """What was found of each guard of the job: see ``Decided``."""

    rows_about: bool = False
    """Whether the rows before and after are what statistics say, and were not counted."""

    unverified: bool = False
    """Whether the rows are committed, and could not be counted since the target did not answer any more."""

    nothing: str = ""
    """Why there was nothing to copy, and no load."""

    @classmethod
    def of_nothing(cls, why: str) -> LegResult:
        """Of a leg that found nothing to copy."""
        return cls(Tally(), None, None, False, 0.0, nothing=why)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)
