"""One slice of a leg: read, shaped and staged, by whatever process."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any, Protocol

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.write_plan import Attempt, Stage
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.run.counting.progress import Progress
from ultravect.core.engine.run.counting.row_account import RowAccount
from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.observer import write_rows
from ultravect.core.engine.run.reading import Reading
from ultravect.core.engine.run.rejected.rejects import Reject, RejectLedger
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.parts import DividesRows

_ROWS_OF_SLICE = 1 << 40
"""The numbers of staged rows are kept apart by slices, so that their order is that of the source."""


@dataclass(frozen=True)
class SliceOrder:
    """What a process needs to copy a slice, in addition to the plan and the opened connections. JSON both ways.

    ``receipt`` is that of the leg's attempt; ``snapshot`` the one that all slices read, "" for none.
    """

    stage: Stage
    receipt: ReceiptKey
    snapshot: str = ""

    def as_json(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> SliceOrder:
        stage = data["stage"]
        table = TableName(stage["table"]["schema"], stage["table"]["name"])
        return cls(Stage(table, stage["becomes_target"]), ReceiptKey(**data["receipt"]), data["snapshot"])


@dataclass(frozen=True)
class SliceResult:
    """The account of a slice that is staged: ``read`` = ``filtered`` + ``rejected`` + ``staged``; ``files``: rows read of each file."""

    number: int
    read: int
    filtered: int
    rejected: int
    staged: int
    files: Mapping[str, int] = field(default_factory=dict)
    first_reject: Reject | None = None

    @classmethod
    def of_account(cls, number: int, account: RowAccount) -> SliceResult:
        rejects = account.rejects
        return cls(
            number,
            account.read,
            account.filtered,
            rejects.count,
            account.staged,
            dict(account.files),
            rejects.first,
        )

    def as_json(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> SliceResult:
        first = data["first_reject"]
        return cls(**{**data, "first_reject": Reject(**first) if first else None})

    def receipt(self, table: TableName) -> Receipt:
        counts = {"read": self.read, "filtered": self.filtered, "rejected": self.rejected, "staged": self.staged}
        first = self.first_reject.as_dict() if self.first_reject else None
        return Receipt(str(table), "slice", counts, rows_before=None, files=dict(self.files), first_reject=first)

    @classmethod
    def of_receipt(cls, number: int, receipt: Receipt) -> SliceResult:
        counts, first = receipt.tally, receipt.first_reject
        return cls(
            number,
            counts["read"],
            counts["filtered"],
            counts["rejected"],
            counts["staged"],
            receipt.files,
            Reject(**first) if first else None,
        )


class SliceRunner(Protocol):
    """What has slices copied."""

    def capacity(self) -> int:
        """How many slices it can have copied at the same time, each as quickly as one alone."""

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        """The accounts of all slices of a plan, as they are done; UltravectError of one that failed, after which none goes on."""


def run_slice(
    plan: LegPlan,
    number: int,
    order: SliceOrder,
    source: ConnectionSpec,
    target: ConnectionSpec,
    listener: Listener,
    run_id: str = "",
) -> SliceResult:
    """Copies slice ``number`` of a leg, from 1, into its stage, once: where an attempt before it has committed, nothing is read.

    Raises UltravectError when it fails; then nothing of it is staged.
    """
    opened = OpenLeg.open(plan, source, target)
    stages = opened.target.stages
    assert stages is not None, "the plan is cut into slices"
    key = replace(order.receipt, slice=number)
    if (found := opened.target.ledger(plan.table).receipt(key)) is not None:
        return SliceResult.of_receipt(number, found)
    try:
        return _copy(opened, number, order, key, stages, listener, run_id)
    except UltravectError as error:
        # an attempt that was given up has committed in the meantime
        if error.code != "attempt-replaced" or (found := opened.target.ledger(plan.table).receipt(key)) is None:
            raise
        return SliceResult.of_receipt(number, found)


def _copy(
    opened: OpenLeg,
    number: int,
    order: SliceOrder,
    key: ReceiptKey,
    stages: Stages,
    listener: Listener,
    run_id: str,
) -> SliceResult:
    plan, part = opened.plan, opened.plan.slices[number - 1]
    assert isinstance(opened.reader, DividesRows)
    reader = opened.reader.only_part(part)
    if isinstance(reader, TableRows):
        reader = replace(reader, snapshot=order.snapshot)
    opened = replace(opened, reader=reader)
    attempt = Attempt(plan.write, order.receipt, notify=lambda text: listener.log("warning", text))
    progress = Progress(listener, reader.size)
    account = RowAccount(RejectLedger(opened.job.into.rejects, listener.rejects))
    reading = Reading(reader, Shaper.of(opened, run_id, part.rows_before), progress, None, None, with_keys=False)
    try:
        with stages.slice(attempt, order.stage, key, (number - 1) * _ROWS_OF_SLICE) as staging:
            reading.start()
            write_rows(reading, [account, progress], staging.write)
            progress.report(now=True)
            result = SliceResult.of_account(number, account)
            staging.publish(result.receipt(plan.table))
            return result
    finally:
        reading.end()
