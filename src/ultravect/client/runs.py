"""Runs: listed, followed, stopped, and what comes of them."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from ultravect.client.calls import Calls
from ultravect.client.models import (
    Change,
    Differences,
    Event,
    Page,
    Reject,
    Run,
    RunSummary,
)
from ultravect.client.notebook import Picture


def _asked(column: str | None, object: str, search: str, leg: int | None = None) -> dict[str, Any]:
    """Which rejects are asked for."""
    given = {"object": object, "search": search, "leg": leg}
    return ({} if column is None else {"column": column}) | {key: value for key, value in given.items() if value}


class Runs(Calls):
    """Runs: listed, followed, stopped, and what comes of them."""

    def runs(self, *, job: str = "", state: str = "", page: int = 1, page_size: int = 50) -> Page[RunSummary]:
        params: dict[str, Any] = {"page": page, "page_size": page_size}
        params |= {key: value for key, value in (("job", job), ("state", state)) if value}
        return self._pages(RunSummary, "runs", params)

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
        return self._pages(Reject, f"runs/{run}/rejects", params)

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
        return self._pages(Change, f"runs/{run}/changes", params)

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

    def watch(self, run: int) -> Run:
        """The run, once it has ended; until then a notebook shows its progress, and a terminal what it says."""
        picture = Picture(run)
        for event in self.follow(run):
            picture.take(event)
        ended = self.show(run)
        picture.end(ended)
        return ended

    def wait(self, run: int) -> Run:
        """The run, once it has ended."""
        for _ in self.follow(run):
            pass
        return self.show(run)
