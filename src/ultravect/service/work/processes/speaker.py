"""What a leg process says to its worker, and what it hears."""

from __future__ import annotations

import json
import os
import queue
import select
import signal
import socket
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext, suppress
from typing import Any, NoReturn

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.engine.objects.masking import Mask
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult
from ultravect.core.engine.run.sliced_leg import usual_capacity
from ultravect.core.engine.stream.windows import WindowAccount
from ultravect.core.errors import StopRequested, UltravectError
from ultravect.core.model.finding import Finding
from ultravect.service.work.processes.stopper import Stopper

_REJECTS_A_LINE = 100
_CLOSE_SECONDS = 2.0
_IDLE_SECONDS = 15.0
"""So often it is said that nothing has changed, after the first time."""
_AS_THEY_ARE = (
    "rejects",
    "changes",
    "planned",
    "slices",
    "progress",
    "laid_out",
    "published",
    "phase",
    "stream_rejects",
)


class Speaker:
    """Writes what happens as lines of JSON; a ``Listener``."""

    def __init__(self, worker: socket.socket, stopper: Stopper) -> None:
        self._worker = worker
        self._stopper = stopper
        self._leg: dict[str, int] = {}
        self._lock = threading.Lock()
        self.mask = Mask()
        """Hides the secrets of the connections in what is said; rows and plans, of which databases and workers need each character, are
        said as they are."""

        self.leave: queue.SimpleQueue[bool] | None = None
        """Where its worker says whether a leg may publish, which it does only when that is noted; None: it is not asked."""

        self.before_end: Callable[[], None] | None = None
        """Is called before the process says how it ended."""

    def of(self, leg: int) -> Speaker:
        """The same for one of the legs of this process."""
        speaker = Speaker.__new__(Speaker)
        speaker.__dict__ = {**self.__dict__, "_leg": {"leg": leg}}
        return speaker

    def say(self, kind: str, **data: Any) -> None:
        if kind in ("succeeded", "failed", "stopped") and (first := self.before_end) is not None:
            self.before_end = None
            first()
        data = {**self._leg, **(data if kind in _AS_THEY_ARE else self.mask.data(data))}
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
        if self.leave is not None and (name, state) == ("publish", "running") and not self.leave.get():
            raise StopRequested

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
            some = [reject.as_dict() for reject in rejects[start : start + _REJECTS_A_LINE]]
            self.say("rejects", rejects=[{**item, "reason": self.mask.text(item["reason"])} for item in some])

    def read_again(self) -> None:
        self.say("read_again")

    def published(self, receipt: Receipt) -> None:
        self.say("published", **receipt.as_dict())

    def changes(self, changes: Sequence[RowChange]) -> None:
        for start in range(0, len(changes), _REJECTS_A_LINE):
            self.say("changes", changes=[change.as_dict() for change in changes[start : start + _REJECTS_A_LINE]])


class StreamSpeaker:
    """A ``StreamListener``."""

    def __init__(self, speaker: Speaker) -> None:
        self._speaker = speaker
        self._idle_said = 0.0

    def table(self, name: str, state: str, rows: int) -> None:
        self._speaker.say("stream_table", name=name, state=state, rows=rows)

    def following(self, position: str) -> None:
        self._speaker.say("following", position=position)

    def window(self, account: WindowAccount) -> None:
        self._idle_said = 0.0
        self._speaker.say("window", **account.as_dict())

    def idle(self, position: str, lag: float) -> None:
        if time.monotonic() - self._idle_said > _IDLE_SECONDS:
            self._idle_said = time.monotonic()
            self._speaker.say("idle", position=position, lag=lag)

    def kept(self, size: int) -> None:
        self._speaker.say("kept", bytes=size)

    def rejects(self, name: str, rejects: Sequence[Reject]) -> None:
        for start in range(0, len(rejects), _REJECTS_A_LINE):
            some = [reject.as_dict() for reject in rejects[start : start + _REJECTS_A_LINE]]
            self._speaker.say("stream_rejects", name=name, rejects=some)

    def log(self, level: str, text: str) -> None:
        self._speaker.log(level, text)

    def finding(self, finding: Finding) -> None:
        self._speaker.finding(finding)


class Inbox:
    """What the worker sends: tasks, what has become of slices, whether a leg may publish, and to stop.

    Ends the process when its worker is gone, or gives no sign of life while there is a task: another one may have the run by then.
    """

    def __init__(self, worker: socket.socket, stopper: Stopper) -> None:
        self._worker, self._stopper = worker, stopper
        self._lost_after: float | None = None
        self.tasks: queue.SimpleQueue[dict[str, Any] | None] = queue.SimpleQueue()
        """None: there will be no more."""

        self.slices: queue.SimpleQueue[dict[str, Any]] = queue.SimpleQueue()
        self.leave: queue.SimpleQueue[bool] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def rest(self) -> None:
        """The task is done; nothing more is expected until the next one."""
        self._lost_after = None

    def until_the_end(self) -> NoReturn:
        """Waits until the worker lets go of the process, which ends it."""
        self._thread.join()
        os._exit(0)

    def _read(self) -> None:
        rest = b""
        with suppress(OSError):
            while select.select([self._worker], [], [], self._lost_after)[0] and (part := self._worker.recv(1 << 16)):
                *lines, rest = (rest + part).split(b"\n")
                for line in lines:
                    if line:
                        self._take(json.loads(line))
        if self._lost_after is None:
            self.tasks.put(None)
            time.sleep(_CLOSE_SECONDS)
        os._exit(1)

    def _take(self, said: dict[str, Any]) -> None:
        if "leave" in said:
            self.leave.put(bool(said["leave"]))
        elif "stop" in said:
            os.kill(os.getpid(), signal.SIGTERM)
        elif "lost_after" in said:
            self._lost_after = float(said["lost_after"])
            self._stopper.begin()
            self.tasks.put(said)
        else:
            self.slices.put(said)


class QueuedSlices:
    """Has slices copied by workers; see ``SliceRunner``."""

    def __init__(self, speaker: Speaker, inbox: queue.SimpleQueue[dict[str, Any]]) -> None:
        self._speaker, self._inbox = speaker, inbox

    def capacity(self) -> int:
        return usual_capacity()

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        self._speaker.say("slices", order=order.as_json(), labels=[part.label for part in plan.slices])
        for _ in plan.slices:
            answer = self._inbox.get()
            if "error" in answer:
                raise UltravectError.from_dict(answer["error"])
            yield SliceResult.from_json(answer["slice"])
