"""What the service gives, as typed values. Fields that this version does not know are kept out, not refused."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any, Generic, TypeVar

from pydantic import BaseModel, ConfigDict


class _Given(BaseModel):
    model_config = ConfigDict(extra="ignore", frozen=True)


Item = TypeVar("Item", bound=_Given)


class Page(_Given, Generic[Item]):
    """A page of a list; ``total`` counts the whole list."""

    items: list[Item]
    total: int
    page: int
    pages: int


class User(_Given):
    name: str
    role: str


class Token(_Given):
    id: int
    label: str
    token: str
    user: User


class KnownToken(_Given):
    """A token without its text; ``role`` is the most that it may do, "" for all that its owner may."""

    id: int
    label: str
    owner: str
    role: str
    created_at: dt.datetime
    used_at: dt.datetime | None
    expires_at: dt.datetime | None


class Account(User):
    """``active`` false: disabled."""

    active: bool
    last_login: dt.datetime | None


class AuditEntry(_Given):
    """Who did what to which record, and from which network address."""

    id: int
    at: dt.datetime
    user: str
    address: str
    action: str
    kind: str
    name: str
    detail: dict[str, Any]


class Connection(_Given):
    name: str
    kind: str
    settings: dict[str, Any]
    secrets_set: list[str] = []


class ProbeStep(_Given):
    """``state``: passed, failed, or not reached."""

    step: str
    state: str
    detail: str
    seconds: float


class Probe(_Given):
    """How far a test came, step by step; ``error`` is that of the step that failed."""

    passed: bool
    steps: list[ProbeStep]
    error: dict[str, Any] | None


class Edit(_Given):
    """The lines ``old`` of the job file, from number ``line`` (from 1) on, become ``new``."""

    line: int
    old: list[str]
    new: list[str]


class Finding(_Given):
    severity: str
    code: str
    message: str
    place: str
    fix: str
    edit: Edit | None = None


class Check(_Given):
    passed: bool
    findings: list[Finding]
    columns: list[dict[str, Any]]
    ddl: str | None
    source_sql: str | None
    effect: str
    target_sql: list[str]
    target: str
    target_exists: bool
    rows_tried: int
    strategy: dict[str, Any] | None = None
    """How a run would write the rows: ``name``, ``summary``, and of quicker ways ``why_not``."""


class RehearsalStep(_Given):
    step: str
    rows_in: int
    rows_out: int
    rejected: int


class RehearsedRow(_Given):
    row: int
    before: list[str | None]
    after: list[str | None]


class Rehearsal(_Given):
    """``would_fail`` says why a run would, "" when it would not; ``complete`` when all rows were tried."""

    passed: bool
    would_fail: str
    complete: bool
    steps: list[RehearsalStep]
    source_columns: list[str]
    target_columns: list[dict[str, str]]
    rows: list[RehearsedRow]
    rejects: list[dict[str, Any]]
    findings: list[Finding]


class Translation(_Given):
    """A native type of ``source``, and what a new column becomes in ``target``."""

    source: str
    native: str
    canonical: str
    target: str
    becomes: str
    fit: str
    change: str


class Layout(_Given):
    """A saved layout: ``file`` as it was saved, ``structure`` the same as data."""

    name: str
    about: str
    format: str
    version: int
    saved_at: dt.datetime
    file: str
    structure: dict[str, Any]


class Fit(_Given):
    fits: bool
    findings: list[Finding]


class Upload(_Given):
    """Where an uploaded file landed; ``size`` in bytes."""

    connection: str
    object: str
    size: int
    replaced: bool


class Leg(_Given):
    """``tally`` is there once the leg has succeeded; sizes are in bytes."""

    number: int
    source: str
    target: str
    state: str
    phases: list[dict[str, Any]]
    progress: dict[str, Any]
    tally: dict[str, int] | None
    rows_before: int | None
    rows_after: int | None
    created_target: bool
    rejected: int
    comparison: dict[str, int] | None
    checksums: dict[str, str] | None
    strategy: str = ""
    """How the rows were written; "" before that is known."""

    peak_memory: int | None


class FollowUp(_Given):
    """A run that loaded the rejects of another (``kind`` rejects), or undid it (``undo``)."""

    id: int
    kind: str
    state: str


class RunSummary(_Given):
    id: int
    job: str
    revision: int
    state: str
    outcome: str = "nothing"
    """What is in the target: ``nothing``, ``committed`` or ``unknown``. A run can fail after its rows are committed."""

    started_by: str | None
    queued_at: dt.datetime
    started_at: dt.datetime | None
    first_row_at: dt.datetime | None
    ended_at: dt.datetime | None
    error: dict[str, Any] | None
    kind: str = "load"
    origin: int | None = None
    tally: dict[str, int] | None = None

    @property
    def ended(self) -> bool:
        return self.state in ("succeeded", "failed", "stopped")


class Run(RunSummary):
    """``parameters`` are the values that the run used; ``attempts`` how often it was begun, more than once where it was
    taken over; ``followed_by`` are the runs whose ``origin`` it is."""

    legs: list[Leg]
    file: str
    parameters: dict[str, Any] = {}
    attempts: int = 1
    followed_by: list[FollowUp] = []


class JobSummary(_Given):
    name: str
    about: str
    labels: list[str]
    source: str
    target: str
    revision: int
    saved_at: dt.datetime
    last_run: RunSummary | None


class Job(JobSummary):
    """``file`` is the text as saved, ``structure`` the same as data."""

    file: str
    structure: dict[str, Any]


class Reject(_Given):
    leg: int
    object: str
    row: int
    line: int | None
    column: str
    value: str | None
    reason: str
    record: str
    key: str = ""
    """The primary key of a table's row, as a JSON object of texts."""

    @property
    def place(self) -> str:
        """What tells which row it is: ``row 1,204``, or the values of its key."""
        known: dict[str, str] = json.loads(self.key) if self.key else {}
        return ", ".join(f"{name} {value}" for name, value in known.items()) or f"row {self.row:,}"


class Change(_Given):
    """A row before and after a load, its values as text; ``kind``: updated, added, gone or repeated."""

    leg: int
    kind: str
    columns: list[str]
    before: list[str | None] | None
    after: list[str | None] | None


class Event(_Given):
    id: int
    kind: str
    at: dt.datetime
    data: dict[str, Any]


class Answer(_Given):
    columns: list[str]
    rows: list[list[Any]]
    more: bool
