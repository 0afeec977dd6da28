"""One execution of a leg: what all of its parts are given."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.rejected.row_selection import RowSelection
from ultravect.core.engine.run.slice_run import SliceRunner


@dataclass(frozen=True)
class Execution:
    """``listener`` is notified of what happens; ``run_id`` is the run's number. ``key`` names the receipt of this attempt, None: it leaves none;
    ``earlier`` those of the attempts before it, which may still be under way.

    ``shield`` guards the moment of publishing against being stopped half-way. ``selection``: only these rows of the source are copied, in
    addition to what is in the target. ``runner``: what has slices copied, where the leg is cut into such. ``started``: by the clock of
    ``time.monotonic``.
    """

    listener: Listener
    run_id: str = ""
    key: ReceiptKey | None = None
    shield: Callable[[], AbstractContextManager[None]] = nullcontext
    selection: RowSelection | None = None
    runner: SliceRunner | None = None
    earlier: Sequence[ReceiptKey] = ()
    started: float = field(default_factory=time.monotonic)
