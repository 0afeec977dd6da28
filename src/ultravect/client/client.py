"""The service's API as methods."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from types import TracebackType
from typing import Any, BinaryIO
from urllib.parse import quote

from ultravect.client.errors import ApiError
from ultravect.client.models import (
    Account,
    Answer,
    AuditEntry,
    Change,
    Check,
    Connection,
    Differences,
    Event,
    Feed,
    FeedDays,
    FeedFile,
    Fit,
    History,
    Job,
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
    Run,
    RunSummary,
    Schedule,
    StartedRun,
    Today,
    Token,
    Translation,
    Upload,
    User,
)
from ultravect.client.transport import Transport

_LIST_SIZE = 200
_PIECE = 1 << 20
_FILE = {"Content-Type": "application/yaml"}


def _named(object: str) -> dict[str, Any]:
    """Which of many objects is meant, where one is."""
    return {"object": object} if object else {}


def _asked(column: str | None, object: str, search: str, leg: int | None = None) -> dict[str, Any]:
    """Which rejects are asked for."""
    given = {"object": object, "search": search, "leg": leg}
    return ({} if column is None else {"column": column}) | {key: value for key, value in given.items() if value}


class Client:
    """Talks to one service. ``timeout`` is in seconds, for everything but following a run."""

    def __init__(self, url: str, *, token: str | None = None, timeout: float = 120) -> None:
        self._transport = Transport(url, token, timeout)

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._transport.close()

    def _json(self, method: str, path: str, **arguments: Any) -> Any:
        return self._transport.request(method, path, **arguments).json()

    # session

    def health(self) -> dict[str, Any]:
        return dict(self._json("GET", "health"))

    def issue_token(self, user: str, password: str, label: str) -> Token:
        return Token.model_validate(
            self._json("POST", "tokens", json={"user": user, "password": password, "label": label})
        )

    def make_token(
        self,
        label: str,
        *,
        role: str = "",
        days: int | None = None,
        sites: Sequence[str] = (),
        jobs: Sequence[str] = (),
    ) -> Token:
        """A token of one's own; its text is in the answer, this once. ``days`` None: it never expires.

        ``jobs``: it may only start runs of these, and see them. ``sites``: for workers of these sites that join by HTTPS, and for nothing else.
        """
        asked: dict[str, Any] = {"label": label}
        asked |= {
            name: value
            for name, value in (("role", role), ("days", days), ("sites", list(sites)), ("jobs", list(jobs)))
            if value
        }
        return Token.model_validate(self._json("POST", "tokens", json=asked))

    def tokens(self, *, of_all: bool = False) -> list[KnownToken]:
        """One's own tokens, or those of all users."""
        if not of_all:
            return [KnownToken.model_validate(item) for item in self._json("GET", "tokens")]
        page = self._json("GET", "users-tokens", params={"page_size": _LIST_SIZE})
        return [KnownToken.model_validate(item) for item in page["items"]]

    def withdraw_token(self, number: int) -> None:
        self._transport.request("DELETE", f"tokens/{number}")

    def users(self) -> list[Account]:
        page = self._json("GET", "users", params={"page_size": _LIST_SIZE})
        return [Account.model_validate(item) for item in page["items"]]

    def add_user(self, name: str, password: str, role: str) -> Account:
        body = {"name": name, "password": password, "role": role}
        return Account.model_validate(self._json("POST", "users", json=body))

    def change_user(
        self, name: str, *, role: str | None = None, password: str | None = None, active: bool | None = None
    ) -> Account:
        """Changes what is given; the rest stays."""
        given = {"role": role, "password": password, "active": active}
        body = {key: value for key, value in given.items() if value is not None}
        return Account.model_validate(self._json("PATCH", f"users/{quote(name, '')}", json=body))

    def audit(self, *, kind: str = "", name: str = "", user: str = "", page: int = 1) -> Page[AuditEntry]:
        """Who did what, the newest first."""
        asked = {key: value for key, value in {"kind": kind, "name": name, "user": user}.items() if value}
        return Page[AuditEntry].model_validate(self._json("GET", "audit", params={**asked, "page": page}))

    def me(self) -> User:
        return User.model_validate(self._json("GET", "session"))

    # connections

    def connections(self) -> list[Connection]:
        page = self._json("GET", "connections", params={"page_size": _LIST_SIZE})
        return [Connection.model_validate(item) for item in page["items"]]

    def connection(self, name: str) -> Connection:
        return Connection.model_validate(self._json("GET", f"connections/{quote(name, '')}"))

    def add_connection(
        self, name: str, kind: str, settings: dict[str, Any], *, site: str = "", at_most: int | None = None
    ) -> Connection:
        """Adds a connection; ``site``: the network location whose workers reach it, ``at_most``: how many legs may use it at once."""
        body = {"name": name, "kind": kind, "settings": settings, "site": site, "at_most": at_most}
        return Connection.model_validate(self._json("POST", "connections", json=body))

    def change_connection(
        self, name: str, settings: dict[str, Any], *, site: str | None = None, at_most: int | None = None
    ) -> Connection:
        """Changes the settings given, and site and limit where they are; the others stay. ``at_most`` 0: no limit any more."""
        body: dict[str, Any] = {"settings": settings, **({} if site is None else {"site": site})}
        if at_most is not None:
            body["at_most"] = at_most or None
        return Connection.model_validate(self._json("PATCH", f"connections/{quote(name, '')}", json=body))

    def remove_connection(self, name: str) -> None:
        self._transport.request("DELETE", f"connections/{quote(name, '')}")

    def test_connection(self, name: str, *, write: bool | None = None) -> Probe:
        """Goes as far as a copy would; ``write``: also as one that writes there. None: when a job does."""
        return Probe.model_validate(self._json("POST", f"connections/{quote(name, '')}/test", json={"write": write}))

    def connection_file(self, name: str) -> str:
        """A connection as a file, without its sealed secrets."""
        return self._transport.request(
            "GET", f"connections/{quote(name, '')}/file", headers={"Accept": "application/yaml"}
        ).text

    def save_connection(self, name: str, file: str) -> Connection:
        """Adds or changes a connection from its file; sealed secrets stay as they are."""
        path = f"connections/{quote(name, '')}"
        return Connection.model_validate(self._json("PUT", path, content=file.encode(), headers=_FILE))

    def kinds(self) -> dict[str, Any]:
        """JSON Schema of the settings of each kind of connection."""
        return dict(self._json("GET", "kinds"))

    # looking

    def objects(
        self,
        connection: str,
        *,
        search: str = "",
        pattern: str = "",
        inside: str = "",
        after: str = "",
        limit: int = 200,
    ) -> dict[str, Any]:
        """Files or tables, or what is ``inside`` a zip or a workbook: ``items``, and ``next`` to be given as ``after``."""
        params: dict[str, Any] = {"search": search, "limit": limit}
        params |= {key: value for key, value in (("pattern", pattern), ("inside", inside), ("after", after)) if value}
        return dict(self._json("GET", f"connections/{quote(connection, '')}/objects", params=params))

    def preview(
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
        body: dict[str, Any] = {"rows": rows, "random": random, "whole": whole, "counts": counts}
        body |= {"query": query} if query else {"object": name}
        if layout is not None:
            body["layout"] = layout
        return dict(self._json("POST", f"connections/{quote(connection, '')}/preview", json=body))

    def raw(self, connection: str, name: str, *, size: int = 16 << 10, encoding: str = "") -> dict[str, Any]:
        """The first ``size`` bytes of a file, as text and as they are."""
        params: dict[str, Any] = {"object": name, "size": size, "encoding": encoding}
        return dict(self._json("GET", f"connections/{quote(connection, '')}/bytes", params=params))

    def upload(self, name: str, content: BinaryIO, *, replace: bool = False) -> Upload:
        """Sends a file into the connection `uploads`, in pieces."""
        pieces = iter(lambda: content.read(_PIECE), b"")
        params = {"replace": "true"} if replace else {}
        path = f"uploads/{quote(name)}"
        return Upload.model_validate(self._json("PUT", path, content=pieces, params=params, timeout=None))

    def remove_upload(self, name: str) -> None:
        self._transport.request("DELETE", f"uploads/{quote(name)}")

    # layouts

    def formats(self) -> dict[str, Any]:
        """JSON Schema of the layouts of each format."""
        return dict(self._json("GET", "formats"))

    def layouts(self, *, search: str = "") -> list[Layout]:
        page = self._json("GET", "layouts", params={"search": search, "page_size": _LIST_SIZE})
        return [Layout.model_validate(item) for item in page["items"]]

    def layout(self, name: str) -> Layout:
        return Layout.model_validate(self._json("GET", f"layouts/{quote(name, '')}"))

    def save_layout(self, name: str, file: str) -> Layout:
        """Saves a layout file as the newest version."""
        path = f"layouts/{quote(name, '')}"
        return Layout.model_validate(self._json("PUT", path, content=file.encode(), headers=_FILE))

    def remove_layout(self, name: str) -> None:
        self._transport.request("DELETE", f"layouts/{quote(name, '')}")

    def fit(self, layout: str, connection: str, name: str) -> Fit:
        """Holds a file against a saved layout."""
        body = {"connection": connection, "object": name}
        return Fit.model_validate(self._json("POST", f"layouts/{quote(layout, '')}/fit", json=body))

    def ask(self, connection: str, sql: str, *, limit: int = 200, seconds: float = 20) -> Answer:
        """Runs one statement that reads."""
        body = {"sql": sql, "limit": limit, "seconds": seconds}
        return Answer.model_validate(self._json("POST", f"connections/{quote(connection, '')}/ask", json=body))

    # feeds

    def feeds(self, *, search: str = "") -> list[Feed]:
        page = self._json("GET", "feeds", params={"search": search, "page_size": _LIST_SIZE})
        return [Feed.model_validate(item) for item in page["items"]]

    def feed(self, name: str) -> Feed:
        return Feed.model_validate(self._json("GET", f"feeds/{quote(name, '')}"))

    def save_feed(self, name: str, file: str) -> Feed:
        """Saves a feed file as the newest revision."""
        path = f"feeds/{quote(name, '')}"
        return Feed.model_validate(self._json("PUT", path, content=file.encode(), headers=_FILE))

    def remove_feed(self, name: str) -> None:
        self._transport.request("DELETE", f"feeds/{quote(name, '')}")

    def feed_files(
        self, name: str, *, state: str = "", provider: str = "", search: str = "", page: int = 1, page_size: int = 50
    ) -> Page[FeedFile]:
        """The register of a feed: files that were seen, the newest first."""
        params: dict[str, Any] = {"page": page, "page_size": page_size}
        given = {"state": state, "provider": provider, "search": search}
        params |= {key: value for key, value in given.items() if value}
        return Page[FeedFile].model_validate(self._json("GET", f"feeds/{quote(name, '')}/files", params=params))

    def feed_days(self, name: str, *, days: int = 14) -> FeedDays:
        """Providers by days: what came, and what is missing."""
        return FeedDays.model_validate(self._json("GET", f"feeds/{quote(name, '')}/days", params={"days": days}))

    def draft_feed_version(self, name: str, path: str, *, provider: str = "") -> str:
        """The lines of a new version, from a file that fits none."""
        body = {"path": path} | ({"provider": provider} if provider else {})
        return str(self._json("POST", f"feeds/{quote(name, '')}/draft", json=body)["file"])

    # jobs

    def jobs(self, *, search: str = "", page: int = 1) -> Page[JobSummary]:
        params: dict[str, Any] = {"search": search, "page": page, "page_size": _LIST_SIZE}
        return Page[JobSummary].model_validate(self._json("GET", "jobs", params=params))

    def job(self, name: str) -> Job:
        return Job.model_validate(self._json("GET", f"jobs/{quote(name, '')}"))

    def save_job(self, name: str, file: str) -> Job:
        """Saves a job file as the newest revision, whatever was there before."""
        headers = dict(_FILE)
        try:
            headers["If-Match"] = self._transport.request("GET", f"jobs/{quote(name, '')}").headers["ETag"]
        except ApiError as error:
            if error.status != 404:
                raise
        return Job.model_validate(
            self._json("PUT", f"jobs/{quote(name, '')}", content=file.encode(), headers=headers)
        )

    def marks(self, name: str) -> list[Mark]:
        """How far a job has copied what it copies, as its target says now."""
        return [Mark.model_validate(item) for item in self._json("GET", f"jobs/{quote(name, '')}/marks")]

    def set_mark(self, name: str, value: str, *, object: str = "") -> list[Mark]:
        """Has the next run begin above ``value``; of the ``object``, or of all."""
        asked = {"value": value, **_named(object)}
        return [Mark.model_validate(item) for item in self._json("PUT", f"jobs/{quote(name, '')}/marks", json=asked)]

    def reset_mark(self, name: str, *, object: str = "") -> list[Mark]:
        """Has the next run copy all there is."""
        found = self._json("DELETE", f"jobs/{quote(name, '')}/marks", params=_named(object))
        return [Mark.model_validate(item) for item in found]

    def remove_job(self, name: str) -> None:
        self._transport.request("DELETE", f"jobs/{quote(name, '')}")

    def check_job(self, name: str) -> Check:
        return Check.model_validate(self._json("POST", f"jobs/{quote(name, '')}/check"))

    def check_file(self, file: str) -> Check:
        return Check.model_validate(self._json("POST", "check", content=file.encode(), headers=_FILE))

    def rehearse_job(self, name: str, *, rows: int = 1000, all: bool = False, object: str = "") -> Rehearsal:
        """Takes at least ``rows`` rows, or all, through read and shape; nothing is written. ``object``: which, of many."""
        params = {"rows": rows, "all": all, **_named(object)}
        return Rehearsal.model_validate(self._json("POST", f"jobs/{quote(name, '')}/rehearse", params=params))

    def rehearse_file(self, file: str, *, rows: int = 1000, all: bool = False, object: str = "") -> Rehearsal:
        params = {"rows": rows, "all": all, **_named(object)}
        return Rehearsal.model_validate(
            self._json("POST", "rehearse", params=params, content=file.encode(), headers=_FILE)
        )

    def draft(
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
        asked: dict[str, Any] = {"from_connection": from_connection, "into_connection": into_connection}
        asked |= {"into_object": into_object, "mode": mode, "keys": list(keys)}
        if query:
            asked["query"] = query
        else:
            asked["from_object" if isinstance(from_object, str) else "from_objects"] = from_object
        if layout is not None:
            asked["layout"] = layout
        return str(self._json("POST", "draft", json=asked)["file"])

    def types(self, source: str | None = None, target: str | None = None) -> list[Translation]:
        """How types translate, from one dialect or all into one or all."""
        params = {key: value for key, value in (("source", source), ("target", target)) if value}
        return [Translation.model_validate(row) for row in self._json("GET", "types", params=params)]

    # runs

    def run(
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
        anew, of a job that copies what is new.
        """
        headers = {"Idempotency-Key": idempotency_key} if idempotency_key else {}
        asked: dict[str, Any] = {"parameters": dict(parameters or {})} | ({"only": list(only)} if only else {})
        if again:
            asked["again"] = {"from": again[0], "to": again[1]}
        return Run.model_validate(self._json("POST", f"jobs/{quote(job, '')}/runs", json=asked, headers=headers))

    def fill(self, job: str, first: str, last: str) -> list[StartedRun]:
        """Starts a run for each past time of the job's schedules, on the days from ``first`` to ``last``; the oldest is first."""
        found = self._json("POST", f"jobs/{quote(job, '')}/fill", json={"from": first, "to": last})
        return [StartedRun.model_validate(item) for item in found]

    def today(self) -> Today:
        """What failed and is not made good, what is late, runs now, comes next, and was rejected, within a day."""
        return Today.model_validate(self._json("GET", "today"))

    def history(self, job: str) -> History:
        """How the last runs of a job went: rows and seconds, with what is usual."""
        return History.model_validate(self._json("GET", f"jobs/{quote(job, '')}/history"))

    def notify_rules(self) -> list[NotifyRule]:
        """Who is sent a message of what."""
        return Page[NotifyRule].model_validate(self._json("GET", "notify", params={"page_size": _LIST_SIZE})).items

    def save_notify_rule(
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
        asked: dict[str, Any] = {"occasions": list(occasions), "mail": list(mail), "webhook": webhook}
        asked |= {"jobs": list(jobs), "labels": list(labels), "remind_hours": remind_hours} | (
            {} if key is None else {"key": key}
        )
        if quiet:
            asked |= {"quiet_from": quiet[0], "quiet_to": quiet[1], "quiet_zone": quiet[2]}
        return NotifyRule.model_validate(self._json("PUT", f"notify/{quote(name, '')}", json=asked))

    def remove_notify_rule(self, name: str) -> None:
        self._transport.request("DELETE", f"notify/{quote(name, '')}")

    def test_notify_rule(self, name: str) -> Message:
        """Sends a test message at once; ApiError ``message-not-sent`` says why it could not be."""
        return Message.model_validate(self._json("POST", f"notify/{quote(name, '')}/test"))

    def messages(self, *, page: int = 1, page_size: int = 50) -> Page[Message]:
        params = {"page": page, "page_size": page_size}
        return Page[Message].model_validate(self._json("GET", "messages", params=params))

    def schedules(self, *, job: str = "") -> list[Schedule]:
        """When jobs are run by themselves, those that come next first."""
        params: dict[str, Any] = {"page_size": _LIST_SIZE} | ({"job": job} if job else {})
        return Page[Schedule].model_validate(self._json("GET", "schedules", params=params)).items

    def pause_schedules(self, job: str, why: str) -> list[Schedule]:
        found = self._json("POST", f"jobs/{quote(job, '')}/pause", json={"why": why})
        return [Schedule.model_validate(item) for item in found]

    def resume_schedules(self, job: str) -> list[Schedule]:
        """Times that came meanwhile are not made up for."""
        return [Schedule.model_validate(item) for item in self._json("POST", f"jobs/{quote(job, '')}/resume")]

    def next_times(self, cron: str, zone: str = "UTC") -> list[str]:
        """The next five times of a schedule that is being written."""
        return list(self._json("POST", "schedules/times", json={"cron": cron, "timezone": zone})["next"])

    def runs(self, *, job: str = "", state: str = "", page: int = 1, page_size: int = 50) -> Page[RunSummary]:
        params: dict[str, Any] = {"page": page, "page_size": page_size}
        params |= {key: value for key, value in (("job", job), ("state", state)) if value}
        return Page[RunSummary].model_validate(self._json("GET", "runs", params=params))

    def show(self, run: int) -> Run:
        return Run.model_validate(self._json("GET", f"runs/{run}"))

    def differences(self, run: int, earlier: int | None = None) -> Differences:
        """How a run differs from an earlier one of its job; None: from the one before."""
        params = {} if earlier is None else {"earlier": earlier}
        return Differences.model_validate(self._json("GET", f"runs/{run}/differences", params=params))

    def plan(self, run: int, leg: int = 1) -> dict[str, Any]:
        """What a leg of a run does, as it was planned."""
        found: dict[str, Any] = self._json("GET", f"runs/{run}/plan", params={"leg": leg})
        return found

    def stop(self, run: int, leg: int | None = None) -> Run:
        """Asks a run, or one ``leg`` of it, to stop."""
        path = f"runs/{run}/stop" if leg is None else f"runs/{run}/legs/{leg}/stop"
        return Run.model_validate(self._json("POST", path))

    def rejects(
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
        params = {"page": page, "page_size": page_size, **_asked(column, object, search, leg)}
        return Page[Reject].model_validate(self._json("GET", f"runs/{run}/rejects", params=params))

    def rejects_file(
        self, run: int, form: str = "csv", *, column: str | None = None, object: str = "", search: str = ""
    ) -> bytes:
        """The same, all of them, as a file of ``form`` csv or jsonl."""
        return self._transport.request(
            "GET", f"runs/{run}/rejects.{form}", params=_asked(column, object, search)
        ).content

    def retry_rejects(self, run: int) -> Run:
        """Starts a run that loads the rows that another one rejected, as the job is now."""
        return Run.model_validate(self._json("POST", f"runs/{run}/retry-rejects"))

    def changes(self, run: int, *, kind: str = "", page: int = 1, page_size: int = 50) -> Page[Change]:
        """Some of the rows that a run changed, before and after."""
        params: dict[str, Any] = {"page": page, "page_size": page_size} | ({"kind": kind} if kind else {})
        return Page[Change].model_validate(self._json("GET", f"runs/{run}/changes", params=params))

    def undo(self, run: int) -> Run:
        """Starts a run that takes back what another one loaded."""
        return Run.model_validate(self._json("POST", f"runs/{run}/undo"))

    def events(self, run: int) -> list[Event]:
        """What happened so far."""
        return [Event.model_validate(item) for item in self._json("GET", f"runs/{run}/events")["items"]]

    def follow(self, run: int) -> Iterator[Event]:
        """Events as they happen, from the beginning to the end of the run."""
        for event in self._transport.events(f"runs/{run}/events"):
            if event.data:
                yield Event.model_validate(json.loads(event.data))

    def wait(self, run: int) -> Run:
        """The run, once it has ended."""
        for _ in self.follow(run):
            pass
        return self.show(run)
