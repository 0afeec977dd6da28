"""A stream from its beginning: what is missing, the snapshot of each table, and then window after window."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from typing import Any, Protocol

from ultravect.core.contracts.change_log import ChangeLog, Changes, Emptied, End, LogMark, Redefined, WindowSize
from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.kept_sessions import close_idle_sessions
from ultravect.core.contracts.ledger import Ledger
from ultravect.core.contracts.mark import MarkKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.legs import legs_now
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.newer.newer_log import LogReading, open_log
from ultravect.core.engine.plan.newer.newer_rows import key_of_mark
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.run.execute import require_plan, run_plan
from ultravect.core.engine.run.execution import Execution
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.engine.stream.stream_table import SNAPSHOT, StreamTable
from ultravect.core.engine.stream.windows import Order, WindowAccount, WindowWriter
from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds, size_bytes
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.pairs import enlarged
from ultravect.core.words import counted

FOLLOW_SECONDS = 5.0
_REFUSALS = ("constraint-refused", "value-refused")
_WATCH_SECONDS = 60.0
_IDLE_SECONDS, _IDLE_BYTES = 60.0, 16 << 20
"""A mark moves on although nothing has changed, after so long, and so much of a log that has nothing for us."""


class StreamListener(Protocol):
    """Is notified of what happens in a stream."""

    def table(self, name: str, state: str, rows: int) -> None:
        """``state``: waiting, snapshot or following; ``rows`` of the snapshot so far."""

    def following(self, position: str) -> None:
        """All tables are copied, and the log is followed."""

    def window(self, account: WindowAccount) -> None: ...

    def idle(self, position: str, lag: float) -> None:
        """Nothing has changed; ``lag``: in seconds."""

    def kept(self, size: int) -> None:
        """How many bytes of its log the source keeps for the stream."""

    def rejects(self, name: str, rejects: Sequence[Reject]) -> None: ...

    def log(self, level: str, text: str) -> None: ...

    def finding(self, finding: Finding) -> None: ...


@dataclass(frozen=True)
class Following:
    """One execution of a stream. ``stops``: asked between windows whether it is to end; ``shield``: see ``Execution``. ``accepted``: changes of
    tables at which it has paused before, in the words of ``Redefined.what``."""

    listener: StreamListener
    stops: Callable[[], bool]
    shield: Callable[[], AbstractContextManager[None]]
    run_id: str = ""
    accepted: frozenset[str] = frozenset()
    until: int | None = None
    """The position at which it ends by itself; None: it does not."""


class StreamPaused(Exception):
    """A table of the source has changed so that the stream does not go on by itself. ``what``: in the words of ``Redefined.what``."""

    def __init__(self, what: str, error: UltravectError) -> None:
        super().__init__(what)
        self.what, self.error = what, error


class _PlanAgain(Exception):
    """A table has other columns: everything is planned anew, and what was not committed is read again."""


def follow_log(job: Job, source: ConnectionSpec, target: ConnectionSpec, following: Following) -> None:
    """Follows the log of a job's source, until ``following.stops``. What was committed before goes on from there.

    Raises StreamPaused, or UltravectError where it fails; everything up to its last window is in the target then.
    """
    stream = _Stream(job, source, target, following)
    accepted, order = set(following.accepted), Order.REMOVED_FIRST
    while True:
        tables = stream.copied()
        try:
            stream.follow(tables, frozenset(accepted), order)
            return
        except _PlanAgain as again:
            accepted.add(str(again))
            order = Order.REMOVED_FIRST
        except _Refused as refused:
            if refused.order == Order.ONE_BY_ONE:
                raise refused.error from None
            order = Order(refused.order + 1)
        except _InOrderAgain:
            order = Order.REMOVED_FIRST


def drop_log(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> bool:
    """Has the source of a job keep nothing for it any more; whether there was something."""
    return open_log(job, source, target, database_of(source)).drop()


def guard_log(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> tuple[int, UltravectError | None]:
    """How many bytes of its log the source of a job keeps for it; an error where that was more than ``guard.log_kept``, and is given up."""
    return _guard_log(job, source, open_log(job, source, target, database_of(source)))


def _guard_log(job: Job, source: ConnectionSpec, log: ChangeLog) -> tuple[int, UltravectError | None]:
    size = log.kept().bytes or 0
    most = job.guard.log_kept if job.guard is not None else None
    if most is None or size <= size_bytes(most):
        return size, None
    log.drop()
    return size, UltravectError(
        "log-given-up",
        f"connection {source.name}: the source had to keep {size / 1e9:.1f} GB of its log for the stream, more than guard.log_kept: "
        f"{most}; it keeps nothing for it any more",
        hint=f"find out what kept the target from following; then have all tables copied anew: ultravect mark {job.job} --reset",
    )


class _Refused(Exception):
    """A constraint of the target refuses the changes in this order."""

    def __init__(self, order: Order, error: UltravectError) -> None:
        super().__init__(str(error))
        self.order, self.error = order, error


class _InOrderAgain(Exception):
    """A window that needed another order is committed."""


class _OtherRows(Exception):
    """What was read of a snapshot is not of its moment."""


class _Stream:
    def __init__(self, job: Job, source: ConnectionSpec, target: ConnectionSpec, following: Following) -> None:
        self._job, self._source, self._to, self._following = job, source, target, following
        self._listener = following.listener
        self._log: ChangeLog = open_log(job, source, target, database_of(source))
        self._key = MarkKey(job.job, f"log of {source.name}")
        self._facts = RunFacts(following.run_id or "0")
        self._held: str | None = None
        self._mark: LogMark | None = None
        self._identifier = ""
        self._watched = 0.0

    # the snapshot

    def copied(self) -> list[StreamTable]:
        """The tables of the job, as they are in the source now, each of which was copied once; those that were not are now."""
        log, listener = self._log, self._listener
        legs = legs_now(self._job, self._source, self._to, self._facts)
        checked = [(name, job, self._plan(job, None)) for name, job in legs]
        for _, _, plan in checked:
            for finding in plan.findings:
                listener.finding(finding)
            require_plan(plan)
        marks = [self._mark_of(job, plan) for _, job, plan in checked]
        self._identifier = log.identifier()
        self._read_own_mark(checked[0][2])
        if not any(marks):
            # all begins anew, wherever an earlier stream has come to
            self._mark = None
            if log.kept().there:
                listener.log(
                    "info", "what the source kept for an earlier stream is given up: all tables are copied anew"
                )
                log.drop()
        self._require_same_log([mark for mark in (*marks, self._mark) if mark is not None])
        live = [plan.reader.live.name for _, _, plan in checked]  # type: ignore[union-attr]
        log.prepare(live)
        for (name, job, _), mark, table in zip(checked, marks, live, strict=True):
            if mark is None:
                self._copy(name, job, table)
            if self._following.stops():
                break
        return [self._opened(name, job) for name, job, _ in checked] if not self._following.stops() else []

    def _plan(self, job: Job, reading: LogReading | None) -> Planning:
        return make_plan(job, self._source, self._to, facts=self._facts, slots=None, reading=reading)

    def _mark_of(self, job: Job, plan: Planning) -> LogMark | None:
        """How far a table was copied; None where it was not, or is gone since."""
        if plan.target is None or plan.table is None or plan.live is None:
            return None
        return _mark(plan.target.ledger(plan.table), key_of_mark(job))

    def _read_own_mark(self, plan: Planning) -> None:
        assert plan.target is not None and plan.table is not None
        self._mark = _mark(plan.target.ledger(plan.table), self._key) if plan.live is not None else None
        self._held = self._mark.as_text() if self._mark else None

    def _require_same_log(self, marks: Sequence[LogMark]) -> None:
        other = next((mark for mark in marks if mark.log != self._identifier), None)
        if other is not None:
            raise UltravectError(
                "log-changed",
                f"connection {self._source.name} leads to another server or database than the one that was copied ({other.log}, now "
                f"{self._identifier}): where to go on in its log is not known",
                hint=f"correct the connection; or have all tables copied anew: ultravect mark {self._job.job} --reset",
            )

    def _copy(self, name: str, job: Job, table: TableName) -> None:
        """Copies all rows of a table, as they are now, with a mark that says what of the log is in them already."""
        listener = self._listener
        position = self._mark.position if self._mark is not None else self._log.kept().position
        listener.table(name, "snapshot", 0)
        while not self._copied(name, job, table, position):
            listener.log("info", f"{name} was emptied or written anew while it was read: it is read again")
        listener.table(name, "following", 0)

    def _copied(self, name: str, job: Job, table: TableName, position: int) -> bool:
        """Whether the rows were those of one moment; nothing is written where they were not."""
        with self._log.snapshot(table, self._identifier, position) as snapshot:
            logged = {
                "change": SNAPSHOT,
                "log_position": self._log.text(snapshot.position),
                "committed_at": dt.datetime.now(dt.UTC),
            }
            plan = self._plan(job, LogReading(snapshot.name, snapshot.mark, self._entry_of(job), logged))
            require_plan(plan)

            @contextmanager
            def publishing() -> Iterator[None]:
                if not snapshot.holds():
                    raise _OtherRows
                with self._following.shield():
                    yield

            try:
                run_plan(
                    OpenLeg.of(plan),
                    Execution(_SnapshotListener(self._listener, name), self._following.run_id, None, publishing),
                )
            except _OtherRows:
                return False
        return True

    def _entry_of(self, job: Job) -> str | None:
        target, table = open_target(job, self._to, self._facts)
        return target.ledger(table).mark(key_of_mark(job)).get("")

    def _opened(self, name: str, job: Job) -> StreamTable:
        plan = self._plan(job, LogReading())
        require_plan(plan)
        if plan.ddl:
            self._change(plan)
            plan = self._plan(job, LogReading())
            require_plan(plan)
        return StreamTable(name, plan, self._log, key_of_mark(job), self._mark_of(job, plan), self._following.run_id)

    def _change(self, plan: Planning) -> None:
        """Has a table of the target get what its source has got: columns, or larger types."""
        assert plan.target is not None and plan.target.database is not None and plan.table is not None
        what = "; ".join(plan.ddl)
        self._listener.log("info", f"the target follows its source: {what}")
        with plan.target.database.transaction(plan.table, f"changing {plan.table}") as statements:
            for statement in plan.ddl:
                statements.changed(statement)

    # the log

    def follow(self, tables: Sequence[StreamTable], accepted: frozenset[str], order: Order) -> None:
        """Writes window after window, until it is to stop."""
        if not tables:
            return
        marks = [self._effective(table) for table in tables]
        start = min(marks, key=lambda mark: mark.position)
        reached = max(mark.position for mark in marks)
        seconds = duration_seconds(self._job.run.follow) if self._job.run.follow else FOLLOW_SECONDS
        logged = [table.logged(mark, accepted) for table, mark in zip(tables, marks, strict=True)]
        writer = WindowWriter(
            tables[0].target, tables, self._key, self._held, order, self._listener.rejects, self._following.shield
        )
        close_idle_sessions()
        with self._log.follow(logged, start, WindowSize(seconds)) as events, writer.open():
            self._listener.following(self._log.text(reached))
            last = time.monotonic()
            for event in events:
                match event:
                    case Changes() | Emptied():
                        with _refusing(order):
                            writer.changes(event) if isinstance(event, Changes) else writer.emptied(event)
                    case Redefined():
                        self._redefined(event)
                    case End():
                        if not writer.is_pending:
                            last = self._idle(event, writer, tables[0], reached, last)
                        else:
                            with _refusing(order):
                                self._write(event, writer)
                            last = time.monotonic()
                            reached = event.position
                            if order != Order.REMOVED_FIRST:
                                raise _InOrderAgain
                        self._watch()
                        if self._following.stops() or self._is_over(event):
                            return

    def _watch(self) -> None:
        """Looks now and then how much the source keeps for us; what is too much is given up."""
        if time.monotonic() - self._watched < _WATCH_SECONDS:
            return
        self._watched = time.monotonic()
        size, error = _guard_log(self._job, self._source, self._log)
        self._listener.kept(size)
        if error is not None:
            raise error

    def _is_over(self, end: End) -> bool:
        until = self._following.until
        return until is not None and end.position >= until

    def _effective(self, table: StreamTable) -> LogMark:
        assert table.mark is not None, "every table was copied"
        if self._mark is None or self._mark.position <= table.mark.position:
            return table.mark
        kept = table.mark.snapshot if table.mark.until > self._mark.position else ""
        return replace(table.mark, position=self._mark.position, snapshot=kept, proof=self._mark.proof)

    def _write(self, end: End, writer: WindowWriter) -> None:
        mark = LogMark(self._identifier, end.position, proof=end.proof)
        account = writer.commit(mark, self._log.text(end.position), end.moment)
        self._mark, self._held = mark, writer.held
        self._log.confirm(end.position)
        self._listener.window(account)

    def _idle(self, end: End, writer: WindowWriter, table: StreamTable, reached: int, last: float) -> float:
        """Nothing has changed: now and then the mark moves on, so that the source need not keep what is not for us."""
        self._listener.idle(self._log.text(end.position), 0.0)
        held = self._mark.position if self._mark is not None else reached
        far = end.position - held
        if far <= 0 or (far < _IDLE_BYTES and time.monotonic() - last < _IDLE_SECONDS):
            return last
        mark = LogMark(self._identifier, end.position, proof=end.proof)
        plan = table.write_plan
        table.target.ledger(plan.table).set_mark(self._key, mark.as_text())
        self._mark, self._held = mark, mark.as_text()
        writer.held = self._held
        self._log.confirm(end.position)
        return time.monotonic()

    def _is_followed(self, event: Redefined) -> bool:
        """Whether the target gets by itself what the table of the source has got: columns, and larger types."""
        if self._job.into.if_different != "widen" or event.gone or event.replaced:
            return False
        dialect = database_of(self._source).dialect
        both = [(dialect.to_canonical(old), dialect.to_canonical(new)) for old, new in event.retyped.values()]
        return all(old is not None and new is not None and enlarged(old, new) == new for old, new in both)

    def _redefined(self, event: Redefined) -> None:
        if self._is_followed(event):
            self._listener.log("info", f"{event.what}: the stream is planned anew")
            raise _PlanAgain(event.what)
        error = UltravectError(
            "log-table-changed",
            f"{event.what}; the stream has paused before this change",
            hint="correct the job or the target if need be, and continue: ultravect stream resume "
            f"{self._job.job}; into.if_different: widen follows new columns and larger types by itself",
            table=str(event.table),
        )
        raise StreamPaused(event.what, error)


@contextmanager
def _refusing(order: Order) -> Iterator[None]:
    try:
        yield
    except UltravectError as error:
        if error.code not in _REFUSALS:
            raise
        raise _Refused(order, error) from None


def _mark(ledger: Ledger, key: MarkKey) -> LogMark | None:
    held = ledger.mark(key).get("")
    return LogMark.from_text(held) if held else None


class _SnapshotListener:
    """See ``Listener``: passes on what a user of the stream would want to know of its snapshot."""

    def __init__(self, stream: StreamListener, name: str) -> None:
        self._stream, self._name = stream, name

    def phase(self, name: str, state: str) -> None:
        pass

    def progress(self, figures: dict[str, Any]) -> None:
        self._stream.table(self._name, "snapshot", int(figures.get("rows_staged") or figures.get("rows_read") or 0))

    def log(self, level: str, text: str) -> None:
        self._stream.log(level, f"{self._name}: {text}")

    def finding(self, finding: Finding) -> None:
        pass

    def planned(self, plan: LegPlan) -> None:
        pass

    def rejects(self, rejects: Sequence[Reject]) -> None:
        self._stream.rejects(self._name, rejects)

    def changes(self, changes: Sequence[RowChange]) -> None:
        pass

    def read_again(self) -> None:
        pass

    def published(self, receipt: Receipt) -> None:
        tally: Mapping[str, int] = receipt.tally
        shown = ", ".join(f"{count:,} {name}" for name, count in tally.items() if count and name != "read")
        self._stream.log(
            "info",
            f"{self._name}: a snapshot of {counted(tally.get('read', 0), 'row')} is in {receipt.table} ({shown})",
        )
