"""The client for asyncio: written by `./dev api` from the methods of ``Client``. Do not edit."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from types import TracebackType
from typing import Any, BinaryIO, TypeVar

from ultravect.client.client import Client
from ultravect.client.models import (
    Account,
    Answer,
    AuditEntry,
    Change,
    Check,
    ColumnStep,
    Comparison,
    Connection,
    Differences,
    Event,
    Feed,
    FeedDays,
    FeedFile,
    Fit,
    History,
    Job,
    JobComparison,
    JobMap,
    JobSummary,
    KnownToken,
    Layout,
    Mark,
    Message,
    NotifyRule,
    Page,
    Probe,
    Rehearsal,
    Reject,
    Revision,
    Run,
    RunSummary,
    Schedule,
    StartedRun,
    Stream,
    StreamLine,
    StreamMinute,
    StreamReject,
    Today,
    Token,
    Translation,
    Upload,
    User,
)

Given = TypeVar("Given")


class AsyncClient:
    """``Client`` for asyncio: each method is a coroutine, and lists are gone through by ``async for``.

    Requests are made by threads, so that nothing else waits for them.
    """

    def __init__(self, url: str, *, token: str | None = None, timeout: float = 120) -> None:
        self._client = Client(url, token=token, timeout=timeout)

    async def __aenter__(self) -> AsyncClient:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._client.close()

    @staticmethod
    async def _awaited(call: Callable[..., Given], *args: Any, **kwargs: Any) -> Given:
        return await asyncio.to_thread(call, *args, **kwargs)

    async def follow(self, run: int) -> AsyncIterator[Event]:
        """Events as they happen, from the beginning to the end of the run."""
        events = await asyncio.to_thread(self._client.follow, run)
        while True:
            event = await asyncio.to_thread(next, events, None)
            if event is None:
                return
            yield event

    async def add_connection(
        self, name: str, kind: str, settings: dict[str, Any], *, site: str = "", at_most: int | None = None
    ) -> Connection:
        """Adds a connection; ``site``: the network location whose workers reach it, ``at_most``: how many legs may use it at once."""
        return await self._awaited(self._client.add_connection, name, kind, settings, site=site, at_most=at_most)

    async def add_user(self, name: str, password: str, role: str) -> Account:
        return await self._awaited(self._client.add_user, name, password, role)

    async def ask(self, connection: str, sql: str, *, limit: int = 200, seconds: float = 20) -> Answer:
        """Runs one statement that reads."""
        return await self._awaited(self._client.ask, connection, sql, limit=limit, seconds=seconds)

    async def audit(self, *, kind: str = "", name: str = "", user: str = "", page: int = 1) -> Page[AuditEntry]:
        """Who did what, the newest first."""
        return await self._awaited(self._client.audit, kind=kind, name=name, user=user, page=page)

    async def change_connection(
        self, name: str, settings: dict[str, Any], *, site: str | None = None, at_most: int | None = None
    ) -> Connection:
        """Changes the settings given, and site and limit where they are; the others stay. ``at_most`` 0: no limit any more."""
        return await self._awaited(self._client.change_connection, name, settings, site=site, at_most=at_most)

    async def change_user(
        self, name: str, *, role: str | None = None, password: str | None = None, active: bool | None = None
    ) -> Account:
        """Changes what is given; the rest stays."""
        return await self._awaited(self._client.change_user, name, role=role, password=password, active=active)

    async def changes(self, run: int, *, kind: str = "", page: int = 1, page_size: int = 50) -> Page[Change]:
        """Some of the rows that a run changed, before and after."""
        return await self._awaited(self._client.changes, run, kind=kind, page=page, page_size=page_size)

    async def check_file(self, file: str) -> Check:
        return await self._awaited(self._client.check_file, file)

    async def check_job(self, name: str) -> Check:
        return await self._awaited(self._client.check_job, name)

    async def column_steps(self, connection: str, object: str, column: str) -> list[ColumnStep]:
        """Where a column comes from, and what is made of it, by the last successful run of each job; the nearest first."""
        return await self._awaited(self._client.column_steps, connection, object, column)

    async def compare(
        self,
        source: tuple[str, str],
        target: tuple[str, str],
        *,
        keys: Sequence[str] = (),
        columns: Sequence[str] = (),
        where: str = "",
        settle_seconds: float = 2.0,
    ) -> Comparison:
        """The same of two objects, tables or files, each by its connection and its name."""
        return await self._awaited(
            self._client.compare,
            source,
            target,
            keys=keys,
            columns=columns,
            where=where,
            settle_seconds=settle_seconds,
        )

    async def compare_job(
        self,
        name: str,
        *,
        keys: Sequence[str] = (),
        columns: Sequence[str] = (),
        where: str = "",
        settle_seconds: float = 2.0,
        object: str = "",
        repair: bool = False,
    ) -> JobComparison:
        """Which rows differ between what the job would load now and its target.

        Rows are the same one by ``keys``, else by the job's keys or the target's primary key. Only ``columns`` are compared, of rows for
        which ``where`` is true. What differs is looked at once more after ``settle_seconds``. ``object``: which, of a job with many.

        ``repair``: rows that differ are then loaded, by the run that ``run`` names: those of the source are inserted or updated, those that only
        the target has go where loads of the job take them away."""
        return await self._awaited(
            self._client.compare_job,
            name,
            keys=keys,
            columns=columns,
            where=where,
            settle_seconds=settle_seconds,
            object=object,
            repair=repair,
        )

    async def connection(self, name: str) -> Connection:
        return await self._awaited(self._client.connection, name)

    async def connection_file(self, name: str) -> str:
        """A connection as a file, without its sealed secrets."""
        return await self._awaited(self._client.connection_file, name)

    async def connections(self) -> list[Connection]:
        return await self._awaited(self._client.connections)

    async def differences(self, run: int, earlier: int | None = None) -> Differences:
        """How a run differs from an earlier one of its job; None: from the one before."""
        return await self._awaited(self._client.differences, run, earlier)

    async def draft(
        self,
        from_connection: str,
        from_object: str | Sequence[str],
        into_connection: str,
        into_object: str,
        *,
        query: str = "",
        layout: str | dict[str, Any] | None = None,
        mode: str = "append",
        keys: Sequence[str] = (),
    ) -> str:
        """The text of a job file with every column mapped; of an object, of many by names or patterns, or of a ``query``."""
        return await self._awaited(
            self._client.draft,
            from_connection,
            from_object,
            into_connection,
            into_object,
            query=query,
            layout=layout,
            mode=mode,
            keys=keys,
        )

    async def draft_feed_version(self, name: str, path: str, *, provider: str = "") -> str:
        """The lines of a new version, from a file that fits none."""
        return await self._awaited(self._client.draft_feed_version, name, path, provider=provider)

    async def events(self, run: int) -> list[Event]:
        """What happened so far."""
        return await self._awaited(self._client.events, run)

    async def feed(self, name: str) -> Feed:
        return await self._awaited(self._client.feed, name)

    async def feed_days(self, name: str, *, days: int = 14) -> FeedDays:
        """Providers by days: what came, and what is missing."""
        return await self._awaited(self._client.feed_days, name, days=days)

    async def feed_files(
        self, name: str, *, state: str = "", provider: str = "", search: str = "", page: int = 1, page_size: int = 50
    ) -> Page[FeedFile]:
        """The register of a feed: files that were seen, the newest first."""
        return await self._awaited(
            self._client.feed_files,
            name,
            state=state,
            provider=provider,
            search=search,
            page=page,
            page_size=page_size,
        )

    async def feeds(self, *, search: str = "") -> list[Feed]:
        return await self._awaited(self._client.feeds, search=search)

    async def fill(self, job: str, first: str, last: str) -> list[StartedRun]:
        """Starts a run for each past time of the job's schedules, on the days from ``first`` to ``last``; the oldest is first."""
        return await self._awaited(self._client.fill, job, first, last)

    async def fit(self, layout: str, connection: str, name: str) -> Fit:
        """Holds a file against a saved layout."""
        return await self._awaited(self._client.fit, layout, connection, name)

    async def formats(self) -> dict[str, Any]:
        """JSON Schema of the layouts of each format."""
        return await self._awaited(self._client.formats)

    async def health(self) -> dict[str, Any]:
        return await self._awaited(self._client.health)

    async def history(self, job: str) -> History:
        """How the last runs of a job went: rows and seconds, with what is usual."""
        return await self._awaited(self._client.history, job)

    async def issue_token(self, user: str, password: str, label: str) -> Token:
        return await self._awaited(self._client.issue_token, user, password, label)

    async def job(self, name: str) -> Job:
        return await self._awaited(self._client.job, name)

    async def job_to_edit(self, name: str) -> tuple[Job, str]:
        """A job, and what ``replace_job`` is given so that it replaces this revision and no later one."""
        return await self._awaited(self._client.job_to_edit, name)

    async def jobs(self, *, search: str = "", page: int = 1) -> Page[JobSummary]:
        """Jobs whose name or file has the text ``search``."""
        return await self._awaited(self._client.jobs, search=search, page=page)

    async def kinds(self) -> dict[str, Any]:
        """JSON Schema of the settings of each kind of connection."""
        return await self._awaited(self._client.kinds)

    async def layout(self, name: str) -> Layout:
        return await self._awaited(self._client.layout, name)

    async def layouts(self, *, search: str = "") -> list[Layout]:
        return await self._awaited(self._client.layouts, search=search)

    async def make_token(
        self,
        label: str,
        *,
        role: str = "",
        days: int | None = None,
        sites: Sequence[str] = (),
        jobs: Sequence[str] = (),
    ) -> Token:
        """A token of one's own; its text is in the answer, this once. ``days`` None: it never expires.

        ``jobs``: it may only start runs of these, and see them. ``sites``: for workers of these sites that join by HTTPS, and for nothing else."""
        return await self._awaited(self._client.make_token, label, role=role, days=days, sites=sites, jobs=jobs)

    async def map(self) -> JobMap:
        """Which job reads and writes what."""
        return await self._awaited(self._client.map)

    async def marks(self, name: str) -> list[Mark]:
        """How far a job has copied what it copies, as its target says now."""
        return await self._awaited(self._client.marks, name)

    async def me(self) -> User:
        return await self._awaited(self._client.me)

    async def messages(self, *, page: int = 1, page_size: int = 50) -> Page[Message]:
        return await self._awaited(self._client.messages, page=page, page_size=page_size)

    async def next_times(self, cron: str, zone: str = "UTC") -> list[str]:
        """The next five times of a schedule that is being written."""
        return await self._awaited(self._client.next_times, cron, zone)

    async def notify_rules(self) -> list[NotifyRule]:
        """Who is sent a message of what."""
        return await self._awaited(self._client.notify_rules)

    async def objects(
        self,
        connection: str,
        *,
        search: str = "",
        pattern: str = "",
        inside: str = "",
        after: str = "",
        limit: int = 200,
        alike: bool = False,
    ) -> dict[str, Any]:
        """Files or tables, or what is ``inside`` a zip or a workbook: ``items``, and ``next`` to be given as ``after``.

        ``alike``: files whose names differ in numbers alone are one item, their pattern; up to 10,000 names are looked at then."""
        return await self._awaited(
            self._client.objects,
            connection,
            search=search,
            pattern=pattern,
            inside=inside,
            after=after,
            limit=limit,
            alike=alike,
        )

    async def pause_schedules(self, job: str, why: str) -> list[Schedule]:
        return await self._awaited(self._client.pause_schedules, job, why)

    async def pause_stream(self, job: str, why: str = "") -> Stream:
        """Lets it rest; the source keeps its log until it is resumed."""
        return await self._awaited(self._client.pause_stream, job, why)

    async def plan(self, run: int, leg: int = 1) -> dict[str, Any]:
        """What a leg of a run does, as it was planned."""
        return await self._awaited(self._client.plan, run, leg)

    async def preview(
        self,
        connection: str,
        name: str = "",
        *,
        query: str = "",
        layout: str | dict[str, Any] | None = None,
        rows: int = 20,
        random: bool = False,
        whole: bool = False,
        counts: bool = False,
    ) -> dict[str, Any]:
        """Rows, columns, types and evidence of an object or a ``query``; ``layout``: a saved one's name, or one's own."""
        return await self._awaited(
            self._client.preview,
            connection,
            name,
            query=query,
            layout=layout,
            rows=rows,
            random=random,
            whole=whole,
            counts=counts,
        )

    async def raw(self, connection: str, name: str, *, size: int = 16384, encoding: str = "") -> dict[str, Any]:
        """The first ``size`` bytes of a file, as text and as they are."""
        return await self._awaited(self._client.raw, connection, name, size=size, encoding=encoding)

    async def rehearse_file(self, file: str, *, rows: int = 1000, all: bool = False, object: str = "") -> Rehearsal:
        return await self._awaited(self._client.rehearse_file, file, rows=rows, all=all, object=object)

    async def rehearse_job(self, name: str, *, rows: int = 1000, all: bool = False, object: str = "") -> Rehearsal:
        """Takes at least ``rows`` rows, or all, through read and shape; nothing is written. ``object``: which, of many."""
        return await self._awaited(self._client.rehearse_job, name, rows=rows, all=all, object=object)

    async def rejects(
        self,
        run: int,
        *,
        column: str | None = None,
        object: str = "",
        search: str = "",
        leg: int | None = None,
        page: int = 1,
        page_size: int = 50,
    ) -> Page[Reject]:
        """A run's rejects: of one ``column`` ("": those of no single one), of one ``object``, of one ``leg``, or with a text in them."""
        return await self._awaited(
            self._client.rejects,
            run,
            column=column,
            object=object,
            search=search,
            leg=leg,
            page=page,
            page_size=page_size,
        )

    async def rejects_file(
        self, run: int, form: str = "csv", *, column: str | None = None, object: str = "", search: str = ""
    ) -> bytes:
        """The same, all of them, as a file of ``form`` csv or jsonl."""
        return await self._awaited(self._client.rejects_file, run, form, column=column, object=object, search=search)

    async def remove_connection(self, name: str) -> None:
        return await self._awaited(self._client.remove_connection, name)

    async def remove_feed(self, name: str) -> None:
        return await self._awaited(self._client.remove_feed, name)

    async def remove_job(self, name: str) -> None:
        return await self._awaited(self._client.remove_job, name)

    async def remove_layout(self, name: str) -> None:
        return await self._awaited(self._client.remove_layout, name)

    async def remove_notify_rule(self, name: str) -> None:
        return await self._awaited(self._client.remove_notify_rule, name)

    async def remove_stream(self, job: str, *, leave: bool = False) -> None:
        """Ends it, and has the source give up what it keeps for it, unless ``leave``."""
        return await self._awaited(self._client.remove_stream, job, leave=leave)

    async def remove_upload(self, name: str) -> None:
        return await self._awaited(self._client.remove_upload, name)

    async def replace_job(self, name: str, file: str, etag: str) -> Job:
        """Saves a job file as the next revision; ApiError ``job-changed`` where someone else has saved it meanwhile."""
        return await self._awaited(self._client.replace_job, name, file, etag)

    async def reset_mark(self, name: str, *, object: str = "") -> list[Mark]:
        """Has the next run copy all there is."""
        return await self._awaited(self._client.reset_mark, name, object=object)

    async def resume_schedules(self, job: str) -> list[Schedule]:
        """Times that came meanwhile are not made up for."""
        return await self._awaited(self._client.resume_schedules, job)

    async def retry_rejects(self, run: int) -> Run:
        """Starts a run that loads the rows that another one rejected, as the job is now."""
        return await self._awaited(self._client.retry_rejects, run)

    async def revisions(self, name: str) -> list[Revision]:
        """All that was saved of a job, the newest first."""
        return await self._awaited(self._client.revisions, name)

    async def run(
        self,
        job: str,
        *,
        parameters: Mapping[str, Any] | None = None,
        only: Sequence[str] = (),
        again: tuple[str, str] | None = None,
        idempotency_key: str | None = None,
    ) -> Run:
        """Starts a run, with other values for the job's parameters if need be; the same key again gives the same run.

        ``only``: the objects that it copies, of a job with many. ``again``: the first and the last value of a range that is copied
        anew, of a job that copies what is new."""
        return await self._awaited(
            self._client.run, job, parameters=parameters, only=only, again=again, idempotency_key=idempotency_key
        )

    async def runs(self, *, job: str = "", state: str = "", page: int = 1, page_size: int = 50) -> Page[RunSummary]:
        return await self._awaited(self._client.runs, job=job, state=state, page=page, page_size=page_size)

    async def save_connection(self, name: str, file: str) -> Connection:
        """Adds or changes a connection from its file; sealed secrets stay as they are."""
        return await self._awaited(self._client.save_connection, name, file)

    async def save_feed(self, name: str, file: str) -> Feed:
        """Saves a feed file as the newest revision."""
        return await self._awaited(self._client.save_feed, name, file)

    async def save_job(self, name: str, file: str) -> Job:
        """Saves a job file as the newest revision, whatever was there before."""
        return await self._awaited(self._client.save_job, name, file)

    async def save_layout(self, name: str, file: str) -> Layout:
        """Saves a layout file as the newest version."""
        return await self._awaited(self._client.save_layout, name, file)

    async def save_notify_rule(
        self,
        name: str,
        occasions: Sequence[str],
        *,
        mail: Sequence[str] = (),
        webhook: str = "",
        key: str | None = None,
        jobs: Sequence[str] = (),
        labels: Sequence[str] = (),
        quiet: tuple[str, str, str] | None = None,
        remind_hours: int = 0,
    ) -> NotifyRule:
        """Adds a rule, or replaces it. ``key``: what messages to the webhook are signed with; ``quiet``: from, to, time zone;
        ``remind_hours``: after how many hours what lasts is said again."""
        return await self._awaited(
            self._client.save_notify_rule,
            name,
            occasions,
            mail=mail,
            webhook=webhook,
            key=key,
            jobs=jobs,
            labels=labels,
            quiet=quiet,
            remind_hours=remind_hours,
        )

    async def schedules(self, *, job: str = "") -> list[Schedule]:
        """When jobs are run by themselves, those that come next first."""
        return await self._awaited(self._client.schedules, job=job)

    async def set_mark(self, name: str, value: str, *, object: str = "") -> list[Mark]:
        """Has the next run begin above ``value``; of the ``object``, or of all."""
        return await self._awaited(self._client.set_mark, name, value, object=object)

    async def show(self, run: int) -> Run:
        return await self._awaited(self._client.show, run)

    async def start_stream(self, job: str) -> Stream:
        """Starts it, or has it go on, by the job as it is now."""
        return await self._awaited(self._client.start_stream, job)

    async def stop(self, run: int, leg: int | None = None) -> Run:
        """Asks a run, or one ``leg`` of it, to stop."""
        return await self._awaited(self._client.stop, run, leg)

    async def stop_stream(self, job: str, why: str = "") -> Stream:
        """Ends it; the source keeps its log until it is removed."""
        return await self._awaited(self._client.stop_stream, job, why)

    async def stream(self, job: str) -> Stream:
        """The stream of a job, with what was said of it; ApiError ``stream-missing`` where it has none."""
        return await self._awaited(self._client.stream, job)

    async def stream_minutes(self, job: str, hours: float = 1.0) -> list[StreamMinute]:
        """What it did, minute by minute, the oldest first."""
        return await self._awaited(self._client.stream_minutes, job, hours)

    async def stream_rejects(
        self, job: str, *, object: str = "", page: int = 1, page_size: int = 50
    ) -> Page[StreamReject]:
        """Changes that did not fit the target, the newest first."""
        return await self._awaited(self._client.stream_rejects, job, object=object, page=page, page_size=page_size)

    async def streams(self) -> list[StreamLine]:
        """All of them, by the names of their jobs."""
        return await self._awaited(self._client.streams)

    async def test_connection(self, name: str, *, write: bool | None = None) -> Probe:
        """Goes as far as a copy would; ``write``: also as one that writes there. None: when a job does."""
        return await self._awaited(self._client.test_connection, name, write=write)

    async def test_notify_rule(self, name: str) -> Message:
        """Sends a test message at once; ApiError ``message-not-sent`` says why it could not be."""
        return await self._awaited(self._client.test_notify_rule, name)

    async def today(self) -> Today:
        """What failed and is not made good, what is late, runs now, comes next, and was rejected, within a day."""
        return await self._awaited(self._client.today)

    async def tokens(self, *, of_all: bool = False) -> list[KnownToken]:
        """One's own tokens, or those of all users."""
        return await self._awaited(self._client.tokens, of_all=of_all)

    async def types(self, source: str | None = None, target: str | None = None) -> list[Translation]:
        """How types translate, from one dialect or all into one or all."""
        return await self._awaited(self._client.types, source, target)

    async def undo(self, run: int) -> Run:
        """Starts a run that takes back what another one loaded."""
        return await self._awaited(self._client.undo, run)

    async def upload(self, name: str, content: BinaryIO, *, replace: bool = False) -> Upload:
        """Sends a file into the connection `uploads`, in pieces."""
        return await self._awaited(self._client.upload, name, content, replace=replace)

    async def users(self) -> list[Account]:
        return await self._awaited(self._client.users)

    async def wait(self, run: int) -> Run:
        """The run, once it has ended."""
        return await self._awaited(self._client.wait, run)

    async def withdraw_token(self, number: int) -> None:
        return await self._awaited(self._client.withdraw_token, number)
