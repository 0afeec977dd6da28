"""Jobs: saved, looked at, and run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import quote

from ultravect.client.calls import FILE, LIST_SIZE, Calls
from ultravect.client.errors import ApiError
from ultravect.client.models import (
    Check,
    ColumnStep,
    ColumnSteps,
    Comparison,
    Job,
    JobComparison,
    JobMap,
    JobSummary,
    Mark,
    Page,
    Rehearsal,
    Revision,
    Run,
    StartedRun,
    Translation,
)


def _named(object: str) -> dict[str, Any]:
    """Which of many objects is meant, where one is."""
    return {"object": object} if object else {}


class Jobs(Calls):
    """Jobs: saved, looked at, and run."""

    def jobs(self, *, search: str = "", page: int = 1) -> Page[JobSummary]:
        """Jobs whose name or file has the text ``search``."""
        return self._pages(JobSummary, "jobs", {"search": search, "page": page, "page_size": LIST_SIZE})

    def map(self) -> JobMap:
        """Which job reads and writes what."""
        return JobMap.model_validate(self._json("GET", "map"))

    def column_steps(self, connection: str, object: str, column: str) -> list[ColumnStep]:
        """Where a column comes from, and what is made of it, by the last successful run of each job; the nearest first."""
        params = {"connection": connection, "object": object, "column": column}
        return ColumnSteps.model_validate(self._json("GET", "map/column", params=params)).steps

    def job(self, name: str) -> Job:
        return Job.model_validate(self._json("GET", f"jobs/{quote(name, '')}"))

    def revisions(self, name: str) -> list[Revision]:
        """All that was saved of a job, the newest first."""
        path = f"jobs/{quote(name, '')}/revisions"
        return list(self._pages(Revision, path, {"page_size": LIST_SIZE}))

    def job_to_edit(self, name: str) -> tuple[Job, str]:
        """A job, and what ``replace_job`` is given so that it replaces this revision and no later one."""
        response = self._transport.request("GET", f"jobs/{quote(name, '')}")
        return Job.model_validate(response.json()), response.headers["ETag"]

    def replace_job(self, name: str, file: str, etag: str) -> Job:
        """Saves a job file as the next revision; ApiError ``job-changed`` where someone else has saved it meanwhile."""
        headers = {**FILE, "If-Match": etag}
        return Job.model_validate(
            self._json("PUT", f"jobs/{quote(name, '')}", content=file.encode(), headers=headers)
        )

    def save_job(self, name: str, file: str) -> Job:
        """Saves a job file as the newest revision, whatever was there before."""
        headers = dict(FILE)
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
        return Check.model_validate(self._json("POST", "check", content=file.encode(), headers=FILE))

    def rehearse_job(self, name: str, *, rows: int = 1000, all: bool = False, object: str = "") -> Rehearsal:
        """Takes at least ``rows`` rows, or all, through read and shape; nothing is written. ``object``: which, of many."""
        params = {"rows": rows, "all": all, **_named(object)}
        return Rehearsal.model_validate(self._json("POST", f"jobs/{quote(name, '')}/rehearse", params=params))

    def rehearse_file(self, file: str, *, rows: int = 1000, all: bool = False, object: str = "") -> Rehearsal:
        params = {"rows": rows, "all": all, **_named(object)}
        return Rehearsal.model_validate(
            self._json("POST", "rehearse", params=params, content=file.encode(), headers=FILE)
        )

    def compare_job(
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
        the target has go where loads of the job take them away.
        """
        asked = _compared(keys, columns, where, settle_seconds) | {"object": object, "repair": repair}
        return JobComparison.model_validate(
            self._json("POST", f"jobs/{quote(name, '')}/compare", json=asked, timeout=None)
        )

    def compare(
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
        asked = _compared(keys, columns, where, settle_seconds)
        asked |= {"source_connection": source[0], "source_object": source[1]}
        asked |= {"target_connection": target[0], "target_object": target[1]}
        return Comparison.model_validate(self._json("POST", "compare", json=asked, timeout=None))

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


def _compared(keys: Sequence[str], columns: Sequence[str], where: str, settle_seconds: float) -> dict[str, Any]:
    return {"keys": list(keys), "columns": list(columns), "where": where, "settle_seconds": settle_seconds}
