"""What a leg process does: it runs a leg, says what happens, and runs another one with the same connections, or ends.

It talks with the worker over a socket, in lines of JSON: its task comes in, and later that it may publish, or is to stop, which it does
except in the moment of publishing; what happens goes out. When the socket closes, the worker that asked for the leg is gone: the process
ends at once, and its transaction with it.
"""

from __future__ import annotations

import datetime as dt
import itertools
import logging
import os
import queue
import resource
import socket
from typing import Any, NoReturn

import pyarrow as pa

from ultravect.core.contracts.kept_sessions import close_idle_sessions, keeping_sessions
from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.statements import noting
from ultravect.core.engine.look.check import fix_for_rejects
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.masking import Mask
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.operate.undo import undo_leg
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.legs import Legs, lay_out
from ultravect.core.engine.plan.newer.newer_rows import Again
from ultravect.core.engine.run.execute import committed_result, run_leg
from ultravect.core.engine.run.execution import Execution
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.engine.run.rejected.row_selection import RowSelection, SelectionByKeys, SelectionByRows
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult, SliceRunner, run_slice
from ultravect.core.engine.run.together import LegFailed, LegTogether, run_together
from ultravect.core.engine.stream.follow import Following, StreamPaused, follow_log
from ultravect.core.errors import StopRequested, UltravectError
from ultravect.core.model.document import LAYOUT_FILE, job_from_data
from ultravect.service.work.processes.limits import Limits
from ultravect.service.work.processes.speaker import Inbox, QueuedSlices, Speaker, StreamSpeaker
from ultravect.service.work.processes.stopper import Stopper
from ultravect.service.work.runs.cluster import ClusterSlices

_NOTED = ("load", "rejects", "undo", "together")
"""Kinds of tasks whose statements are recorded."""

_MOST_TASKS = 100
_MOST_GROWTH = 64 << 20
"""Of a process that is used again: tasks, and bytes that it has needed at most beyond what it began with."""


def _peak_memory() -> int:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def _selection(selected: dict[str, Any]) -> RowSelection:
    return SelectionByKeys(selected["keys"]) if selected["keys"] else SelectionByRows(selected["rows"])


def _facts(task: dict[str, Any]) -> RunFacts:
    usual = {name: tuple(counts) for name, counts in task.get("usual", {}).items()}
    return RunFacts(task["run"], dt.date.fromisoformat(task["date"]), usual)


def _slices(task: dict[str, Any], speaker: Speaker, inbox: queue.SimpleQueue[dict[str, Any]]) -> SliceRunner:
    if cluster := task.get("cluster"):
        return ClusterSlices(cluster, task["source"], task["target"], task["run"], speaker.say)
    return QueuedSlices(speaker, inbox)


def _load(task: dict[str, Any], speaker: Speaker, stopper: Stopper, slices: SliceRunner) -> LegResult:
    execution = Execution(
        speaker,
        task["run"],
        ReceiptKey(task["receipt"], task["leg"]) if task["receipt"] else None,
        stopper.shield,
        _selection(task["selection"]) if task["selection"] else None,
        slices,
        [ReceiptKey(name, task["leg"]) for name in task["earlier"]],
    )
    job, source, target = (
        job_from_data(task["job"]),
        ConnectionSpec(**task["source"]),
        ConnectionSpec(**task["target"]),
    )
    saved = LAYOUT_FILE.read(task["layout"]) if task["layout"] else None
    facts, again = _facts(task), Again(task["again"]["from"], task["again"]["to"]) if task["again"] else None
    try:
        return run_leg(job, source, target, execution, saved=saved, facts=facts, text=task["text"], again=again)
    except UltravectError as error:
        if error.code == "too-many-rejects":
            error.hint = fix_for_rejects(job, source, target, saved, facts) or error.hint
        raise


def _copy_slice(task: dict[str, Any], speaker: Speaker) -> SliceResult:
    return run_slice(
        LegPlan.from_json(task["plan"]),
        task["number"],
        SliceOrder.from_json(task["order"]),
        ConnectionSpec(**task["source"]),
        ConnectionSpec(**task["target"]),
        speaker,
        task["run"],
    )


def _load_together(task: dict[str, Any], speaker: Speaker, stopper: Stopper) -> dict[int, LegResult]:
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


def _follow(task: dict[str, Any], speaker: Speaker, stopper: Stopper) -> None:
    following = Following(
        StreamSpeaker(speaker),
        # one that is asked to stop is interrupted, but for the moment of publishing
        lambda: False,
        stopper.hold,
        task["run"],
        frozenset(task["accepted"]),
    )
    source, target = ConnectionSpec(**task["source"]), ConnectionSpec(**task["target"])
    follow_log(job_from_data(task["job"]), source, target, following)


def _undo(task: dict[str, Any], speaker: Speaker, stopper: Stopper) -> LegResult:
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


def _run(task: dict[str, Any], speaker: Speaker, stopper: Stopper, slices: SliceRunner) -> bool:
    """Whether it ended well."""
    try:
        if task["kind"] == "legs":
            found = _find_legs(task)
            speaker.say(
                "laid_out",
                facts=[leg.as_fact() for leg in found.legs],
                files=[file.as_dict() for file in found.files],
                findings=[finding.edited(task["text"]).as_dict() for finding in found.findings],
            )
            return True
        if task["kind"] == "outcome":
            speaker.say("asked", result=_ask(task))
            return True
        if task["kind"] == "slice":
            speaker.say("succeeded", peak_memory=_peak_memory(), slice=_copy_slice(task, speaker).as_json())
            return True
        if task["kind"] == "follow":
            _follow(task, speaker, stopper)
            speaker.say("stopped", peak_memory=_peak_memory())
            return False
        if task["kind"] == "together":
            results = _load_together(task, speaker, stopper)
            memory = _peak_memory()
            accounts = {number: {"peak_memory": memory, **found.as_dict()} for number, found in results.items()}
            speaker.say("succeeded", legs=accounts)
            return True
        if task["kind"] == "undo":
            result = _undo(task, speaker, stopper)
        else:
            result = _load(task, speaker, stopper, slices)
        speaker.say("succeeded", peak_memory=_peak_memory(), **result.as_dict())
        return True
    except StreamPaused as paused:
        speaker.say("failed", error=paused.error.as_dict(), paused=paused.what)
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
    return False


def _run_noted(task: dict[str, Any], speaker: Speaker, stopper: Stopper, slices: SliceRunner) -> bool:
    """The same, and says before its end which statements it has run."""
    if task["kind"] not in _NOTED:
        return _run(task, speaker, stopper, slices)
    with noting() as log:
        speaker.before_end = lambda: speaker.say("statements", statements=log.longest())
        return _run(task, speaker, stopper, slices)


def _may_go_on(memory_at_first: int, tasks: int) -> bool:
    """Whether the process is as good as a new one: it has not needed much, and not been used for long."""
    return tasks < _MOST_TASKS and _peak_memory() - memory_at_first < _MOST_GROWTH


def serve_leg(worker: socket.socket) -> NoReturn:
    """Takes a task from ``worker``, carries it out, and others after it as long as all goes well; then ends the process."""
    stopper = Stopper()
    speaker = Speaker(worker, stopper)
    with keeping_sessions():
        _serve(worker, stopper, speaker)


def _serve(worker: socket.socket, stopper: Stopper, speaker: Speaker) -> None:
    memory_at_first = _peak_memory()
    speaker.say("ready", pid=os.getpid())
    inbox = Inbox(worker, stopper)
    for number in itertools.count(1):
        try:
            task = inbox.tasks.get()
            if task is None:
                # no one has anything more to do; sessions with servers are closed as they should be
                close_idle_sessions()
                os._exit(0)
            if number == 1:
                Limits(task["memory"]).apply()
                speaker.mask = Mask.of_connections(
                    ConnectionSpec(**task[name]) for name in ("source", "target") if name in task
                )
                speaker.mask.in_logs()
            speaker.leave = inbox.leave if task["kind"] in _NOTED else None
            ended_well = _run_noted(task, speaker, stopper, _slices(task, speaker, inbox.slices))
        except StopRequested:
            speaker.say("stopped", peak_memory=_peak_memory())
            break
        if not (ended_well and _may_go_on(memory_at_first, number)):
            break
        stopper.rest()
        inbox.rest()
        speaker.say("free")
    close_idle_sessions()
    # that was all; the worker closes the socket once it has read it, which ends this process
    worker.shutdown(socket.SHUT_WR)
    inbox.until_the_end()
