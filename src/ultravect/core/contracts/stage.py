"""How several sessions fill one load: each puts a slice of the rows into a stage, and the load publishes them together."""

from __future__ import annotations

from contextlib import AbstractContextManager
from typing import Protocol

import pyarrow as pa

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, Stage, WritePlan


class SliceLoad(Protocol):
    """The rows of one slice, in one transaction; leaving its context without ``publish`` undoes everything."""

    def write(self, batch: pa.RecordBatch) -> None:
        """Stages rows that have the plan's columns."""

    def publish(self, receipt: Receipt) -> None:
        """Commits the rows with the receipt of the slice.

        UltravectError ``attempt-replaced``, with nothing written, where another attempt of the slice has committed.
        """


class Stages(Protocol):
    """The stages of a target whose loads several sessions can fill."""

    def obstacle(self, plan: WritePlan) -> str:
        """Why a load is better written by one session; "" where nothing is written twice because of a stage."""

    def stage(self, attempt: Attempt) -> AbstractContextManager[Stage]:
        """Makes a stage. Leaving the context removes what no load has taken; a stage whose session was lost is removed by a later one."""

    def slice(
        self, attempt: Attempt, stage: Stage, key: ReceiptKey, first_row: int
    ) -> AbstractContextManager[SliceLoad]:
        """Opens the load of a slice; ``first_row`` numbers its first row where rows are staged with numbers."""
