"""How several sessions fill one load: each puts a slice of the rows into a stage, and the load publishes them together."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Protocol

import pyarrow as pa

from ultravect.core.contracts.load import LoadOrder, ReceiptKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.dialects.base import TableName


@dataclass(frozen=True)
class Stage:
    """A table that every session sees, and that no one but slices of one load writes to.

    ``becomes_target``: it takes the name of the load's table when that is published; otherwise rows are brought from it into the table.
    """

    table: TableName
    becomes_target: bool


class SliceLoad(Protocol):
    """The rows of one slice, in one transaction; leaving its context without ``publish`` undoes everything."""

    def write(self, batch: pa.RecordBatch) -> None:
        """Stages rows whose columns are those of the order."""

    def publish(self, receipt: Receipt) -> None:
        """Commits the rows with the receipt of the slice.

        UltravectError ``attempt-replaced``, with nothing written, where another attempt of the slice has committed.
        """


class Stages(Protocol):
    """The stages of a target whose loads several sessions can fill."""

    def obstacle(self, order: LoadOrder) -> str:
        """Why a load is better written by one session; "" where nothing is written twice because of a stage."""

    def stage(self, order: LoadOrder) -> AbstractContextManager[Stage]:
        """Makes a stage. Leaving the context removes what no load has taken; a stage whose session was lost is removed by a later one."""

    def slice(
        self, order: LoadOrder, stage: Stage, key: ReceiptKey, first_row: int
    ) -> AbstractContextManager[SliceLoad]:
        """Opens the load of a slice; ``first_row`` numbers its first row where rows are staged with numbers."""
