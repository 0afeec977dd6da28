"""One slice of a leg: read, shaped and staged, by whatever process."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from ultravect.core.contracts.load import ReceiptKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.stage import SliceLoad, Stage, Stages
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.target.writing import load_order
from ultravect.core.engine.run.counting.progress import Progress
from ultravect.core.engine.run.leg import Listener
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
    if (found := opened.target.receipt(plan.table, key)) is not None:
        return SliceResult.of_receipt(number, found)
    try:
        return _copy(opened, number, order, key, stages, listener, run_id)
    except UltravectError as error:
        # an attempt that was given up has committed in the meantime
        if error.code != "attempt-replaced" or (found := opened.target.receipt(plan.table, key)) is None:
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
    load = load_order(opened, order.receipt, notify=lambda text: listener.log("warning", text))
    progress = Progress(listener, reader.size)
    reading = Reading(reader, Shaper.of(opened, run_id, part.rows_before), progress, None, None, with_keys=False)
    try:
        with stages.slice(load, order.stage, key, (number - 1) * _ROWS_OF_SLICE) as staging:
            reading.start()
            result = _stage(opened, number, reading, progress, staging, listener)
            staging.publish(result.receipt(plan.table))
            return result
    finally:
        reading.end()


def _stage(
    opened: OpenLeg, number: int, reading: Reading, progress: Progress, staging: SliceLoad, listener: Listener
) -> SliceResult:
    ledger = RejectLedger(opened.job.into.rejects, listener.rejects)
    read = filtered = staged = 0
    files: Counter[str] = Counter()
    for shaped in reading.shaped():
        read += shaped.rows
        filtered += shaped.filtered
        ledger.add(shaped.rejects)
        # a share is only known of the whole leg
        ledger.enforce(read, final=False)
        staging.write(shaped.batch)
        staged += shaped.batch.num_rows
        files.update(shaped.rows_of_files)
        progress.report(rows_staged=staged)
    progress.report(now=True)
    return SliceResult(number, read, filtered, ledger.count, staged, dict(files), ledger.first)
