"""What a leg process does: it runs one leg, says what happens, and ends.

It talks with the worker over a socket, in lines of JSON: one comes in, its task; what happens goes out. SIGTERM
stops it, except in the moment of publishing. When the socket closes, the worker that asked for the leg is gone: the process
ends at once, and its transaction with it.
"""

from __future__ import annotations

import datetime as dt
import json
import logging
import os
import queue
import resource
import select
import signal
import socket
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from types import FrameType
from typing import Any, NoReturn

import pyarrow as pa

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.load import ReceiptKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.statements import noting
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.operate.undo import undo_leg
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.legs import Legs, lay_out
from ultravect.core.engine.plan.newer.newer_rows import Again
from ultravect.core.engine.run.execute import committed_result, run_leg
from ultravect.core.engine.run.leg import LegResult, Listener
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.engine.run.rejected.row_selection import RowSelection, SelectionByKeys, SelectionByRows
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult, run_slice
from ultravect.core.engine.run.sliced_leg import SliceRunner, usual_capacity
from ultravect.core.engine.run.together import LegFailed, LegTogether, run_together
from ultravect.core.errors import StopRequested, UltravectError
from ultravect.core.model.document import LAYOUT_FILE, job_from_data
from ultravect.core.model.finding import Finding
from ultravect.service.work.processes.limits import Limits
from ultravect.service.work.runs.cluster import ClusterSlices

_REJECTS_A_LINE = 100
_NOTED = ("load", "rejects", "undo", "together")
"""Kinds of tasks whose statements are recorded."""


class _Stopper:
    """Turns SIGTERM into StopRequested in the main thread, at a moment when that does no harm."""

    def __init__(self) -> None:
        self._deaf = False
        self._holding = 0
        self._pending = False
        signal.signal(signal.SIGTERM, self._on_signal)
        signal.signal(signal.SIGINT, signal.SIG_IGN)

    def _on_signal(self, number: int, frame: FrameType | None) -> None:
        if self._holding:
            self._pending = True
        else:
            self._stop()

    def _stop(self) -> None:
        if not self._deaf:
            self._deaf = True  # once is enough: the way out must not be interrupted
            raise StopRequested

    @contextmanager
    def hold(self) -> Iterator[None]:
        """Puts a stop off until the end of something that must not be cut in two."""
        self._holding += 1
        try:
            yield
        finally:
            self._holding -= 1
        if self._pending and not self._holding:
            self._pending = False
            self._stop()

    @contextmanager
    def shield(self) -> Iterator[None]:
        """From publishing on, a stop comes too late."""
        self._deaf = True
        yield


class _Speaker:
    """Writes what happens as lines of JSON; a ``Listener``."""

    def __init__(self, worker: socket.socket, stopper: _Stopper) -> None:
        self._worker = worker
        self._stopper = stopper
        self._leg: dict[str, int] = {}
        self._lock = threading.Lock()
        self.before_end: Callable[[], None] | None = None
        """Is called before the process says how it ended."""

    def of(self, leg: int) -> _Speaker:
        """The same for one of the legs of this process."""
        speaker = _Speaker.__new__(_Speaker)
        speaker.__dict__ = {**self.__dict__, "_leg": {"leg": leg}}
        return speaker

    def say(self, kind: str, **data: Any) -> None:
        if kind in ("succeeded", "failed", "stopped") and (first := self.before_end) is not None:
            self.before_end = None
            first()
        data = {**self._leg, **data}
        line = json.dumps({"kind": kind, **data}, default=str).encode() + b"\n"
        # signals arrive in the main thread, and half a line must not be followed by another
        main = threading.current_thread() is threading.main_thread()
        with self._stopper.hold() if main else nullcontext(), self._lock:
            try:
                self._worker.sendall(line)
            except OSError:
                os._exit(1)  # the worker that asked for the leg is gone

    def phase(self, name: str, state: str) -> None:
        self.say("phase", name=name, state=state)

    def progress(self, figures: dict[str, Any]) -> None:
        self.say("progress", **figures, said=time.time())

    def log(self, level: str, text: str) -> None:
        self.say("log", level=level, text=text)

    def finding(self, finding: Finding) -> None:
        self.say("finding", **finding.as_dict())

    def planned(self, plan: LegPlan) -> None:
        self.say("planned", plan=plan.as_json())

    def rejects(self, rejects: Sequence[Reject]) -> None:
        for start in range(0, len(rejects), _REJECTS_A_LINE):
            self.say("rejects", rejects=[reject.as_dict() for reject in rejects[start : start + _REJECTS_A_LINE]])

    def read_again(self) -> None:
        self.say("read_again")

    def published(self, receipt: Receipt) -> None:
        self.say("published", **receipt.as_dict())

    def changes(self, changes: Sequence[RowChange]) -> None:
        for start in range(0, len(changes), _REJECTS_A_LINE):
            self.say("changes", changes=[change.as_dict() for change in changes[start : start + _REJECTS_A_LINE]])


def _watch(worker: socket.socket, seconds: float, inbox: queue.SimpleQueue[dict[str, Any]]) -> None:
    """Takes what the worker sends later. Ends the process when its worker is gone, or gives no sign of life: another one may have the
    run by then."""
    rest = b""
    while select.select([worker], [], [], seconds)[0] and (part := worker.recv(1 << 16)):
        *lines, rest = (rest + part).split(b"\n")
        for line in lines:
            if line:
                inbox.put(json.loads(line))
    os._exit(1)


class _QueuedSlices:
    """Has slices copied by workers; see ``SliceRunner``."""

    def __init__(self, speaker: _Speaker, inbox: queue.SimpleQueue[dict[str, Any]]) -> None:
        self._speaker, self._inbox = speaker, inbox

    def capacity(self) -> int:
        return usual_capacity()

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        self._speaker.say("slices", order=order.as_json(), labels=[part.label for part in plan.slices])
        for _ in plan.slices:
            answer = self._inbox.get()
            if "error" in answer:
                error = answer["error"]
                raise UltravectError(**{**error, "where": None}, **error["where"])
            yield SliceResult.from_json(answer["slice"])


def _peak_memory() -> int:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def _selection(selected: dict[str, Any]) -> RowSelection:
    return SelectionByKeys(selected["keys"]) if selected["keys"] else SelectionByRows(selected["rows"])


def _facts(task: dict[str, Any]) -> RunFacts:
    usual = {name: tuple(counts) for name, counts in task.get("usual", {}).items()}
    return RunFacts(task["run"], dt.date.fromisoformat(task["date"]), usual)


def _slices(task: dict[str, Any], speaker: _Speaker, inbox: queue.SimpleQueue[dict[str, Any]]) -> SliceRunner:
    if cluster := task.get("cluster"):
        return ClusterSlices(cluster["address"], cluster["source"], cluster["target"], task["run"], speaker.say)
    return _QueuedSlices(speaker, inbox)


def _load(task: dict[str, Any], speaker: _Speaker, stopper: _Stopper, slices: SliceRunner) -> LegResult:
    return run_leg(
        job_from_data(task["job"]),
        ConnectionSpec(**task["source"]),
        ConnectionSpec(**task["target"]),
        speaker,
        stopper.shield,
        LAYOUT_FILE.read(task["layout"]) if task["layout"] else None,
        task["run"],
        facts=_facts(task),
        receipt=task["receipt"],
        leg=task["leg"],
        earlier=task["earlier"],
        selection=_selection(task["selection"]) if task["selection"] else None,
        text=task["text"],
        again=Again(task["again"]["from"], task["again"]["to"]) if task["again"] else None,
        slices=slices,
    )


def _copy_slice(task: dict[str, Any], speaker: _Speaker) -> SliceResult:
    return run_slice(
        LegPlan.from_json(task["plan"]),
        task["number"],
        SliceOrder.from_json(task["order"]),
        ConnectionSpec(**task["source"]),
        ConnectionSpec(**task["target"]),
        speaker,
        task["run"],
    )


def _load_together(task: dict[str, Any], speaker: _Speaker, stopper: _Stopper) -> dict[int, LegResult]:
    legs = [
        LegTogether(
            item["leg"],
            job_from_data(item["job"]),
            speaker.of(item["leg"]),
            [*item["earlier"], item["receipt"]],
            LAYOUT_FILE.read(item["layout"]) if item["layout"] else None,
            Again(task["again"]["from"], task["again"]["to"]) if task["again"] else None,
        )
        for item in task["legs"]
    ]
    facts = _facts(task)
    source, target = ConnectionSpec(**task["source"]), ConnectionSpec(**task["target"])
    run_together(legs, source, target, task["run"], facts, stopper.shield)
    return {leg.number: leg.result for leg in legs if leg.result is not None}


def _undo(task: dict[str, Any], speaker: _Speaker, stopper: _Stopper) -> LegResult:
    return undo_leg(
        job_from_data(task["job"]),
        ConnectionSpec(**task["target"]),
        speaker,
        stopper.shield,
        facts=RunFacts(task["origin"]["run"], dt.date.fromisoformat(task["date"])),
        loads=[ReceiptKey(name, task["leg"]) for name in task["origin"]["receipts"]],
        receipt=ReceiptKey(task["receipt"], task["leg"]),
        earlier=[ReceiptKey(name, task["leg"]) for name in task["earlier"]],
    )


def _ask(task: dict[str, Any]) -> dict[str, Any] | None:
    """What the target says of the run's attempts: see ``committed_result``."""
    found = committed_result(
        job_from_data(task["job"]),
        ConnectionSpec(**task["target"]),
        [ReceiptKey(name, task["leg"]) for name in task["earlier"]],
        RunFacts(task["origin"]["run"] if task["origin"] else task["run"], dt.date.fromisoformat(task["date"])),
    )
    return found.as_dict() if found else None


def _find_legs(task: dict[str, Any]) -> Legs:
    return lay_out(
        job_from_data(task["job"]),
        ConnectionSpec(**task["source"]),
        ConnectionSpec(**task["target"]),
        RunFacts(task["run"], dt.date.fromisoformat(task["date"])),
        task["known"],
    )


def _run(task: dict[str, Any], speaker: _Speaker, stopper: _Stopper, slices: SliceRunner) -> None:
    try:
        if task["kind"] == "legs":
            found = _find_legs(task)
            speaker.say(
                "laid_out",
                legs=[leg.as_dict() for leg in found.legs],
                files=[file.as_dict() for file in found.files],
                findings=[finding.edited(task["text"]).as_dict() for finding in found.findings],
            )
            return
        if task["kind"] == "outcome":
            speaker.say("asked", result=_ask(task))
            return
        if task["kind"] == "slice":
            speaker.say("succeeded", peak_memory=_peak_memory(), slice=_copy_slice(task, speaker).as_json())
            return
        if task["kind"] == "together":
            results = _load_together(task, speaker, stopper)
            memory = _peak_memory()
            accounts = {number: {"peak_memory": memory, **found.as_dict()} for number, found in results.items()}
            speaker.say("succeeded", legs=accounts)
            return
        if task["kind"] == "undo":
            result = _undo(task, speaker, stopper)
        else:
            result = _load(task, speaker, stopper, slices)
        speaker.say("succeeded", peak_memory=_peak_memory(), **result.as_dict())
    except LegFailed as failed:
        found = failed.error
        speaker.say("failed", leg=failed.number, error=found.as_dict(), outcome=found.outcome, phase=found.phase)
    except UltravectError as error:
        speaker.say(
            "failed", peak_memory=_peak_memory(), error=error.as_dict(), outcome=error.outcome, phase=error.phase
        )
    except StopRequested:
        speaker.say("stopped", peak_memory=_peak_memory())
    except (MemoryError, pa.ArrowMemoryError):
        speaker.say("failed", error=UltravectError("out-of-memory", "the leg ran out of memory").as_dict())
    except Exception as error:
        logging.getLogger(__name__).exception("leg failed unexpectedly")
        unexpected = UltravectError(
            "internal-error",
            f"unexpected: {type(error).__name__}; the service's log has the details",
            hint="please report this; nothing was written unless the load was already published",
        )
        speaker.say("failed", error=unexpected.as_dict())


def _run_noted(task: dict[str, Any], speaker: _Speaker, stopper: _Stopper, slices: SliceRunner) -> None:
    """The same, and says before its end which statements it has run."""
    if task["kind"] not in _NOTED:
        _run(task, speaker, stopper, slices)
        return
    with noting() as log:
        speaker.before_end = lambda: speaker.say("statements", statements=log.longest())
        _run(task, speaker, stopper, slices)


def _receive_task(worker: socket.socket) -> dict[str, Any]:
    line = b""
    while not line.endswith(b"\n"):
        part = worker.recv(1 << 16)
        if not part:
            os._exit(0)
        line += part
    task: dict[str, Any] = json.loads(line)
    return task


def serve_leg(worker: socket.socket) -> NoReturn:
    """Takes the task from ``worker``, carries it out, and ends the process."""
    stopper = _Stopper()
    speaker = _Speaker(worker, stopper)
    speaker.say("ready", pid=os.getpid())
    watching: threading.Thread | None = None
    try:
        task = _receive_task(worker)
        Limits(task["memory"]).apply()
        inbox: queue.SimpleQueue[dict[str, Any]] = queue.SimpleQueue()
        watching = threading.Thread(target=_watch, args=(worker, task["lost_after"], inbox), daemon=True)
        watching.start()
        _run_noted(task, speaker, stopper, _slices(task, speaker, inbox))
    except StopRequested:
        speaker.say("stopped", peak_memory=_peak_memory())
    # that was all; the worker closes the socket once it has read it, which ends this process
    worker.shutdown(socket.SHUT_WR)
    if watching is not None:
        watching.join()
    os._exit(0)
