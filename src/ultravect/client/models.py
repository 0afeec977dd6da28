"""What the service gives, as typed values: generated from the description of the API, with what is worked out from their fields."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from ultravect.client import generated
from ultravect.client.base import Page
from ultravect.client.generated import (
    Account,
    AuditEntry,
    Change,
    Check,
    CheckedLeg,
    ColumnStep,
    ColumnSteps,
    ComparedRow,
    Comparison,
    Connection,
    Differences,
    Edit,
    Feed,
    FeedDays,
    FeedFile,
    Finding,
    Fit,
    FollowUp,
    History,
    JobComparison,
    Layout,
    Leg,
    Mark,
    MarkOfLeg,
    Message,
    NotifyRule,
    Probe,
    ProbeStep,
    Rehearsal,
    RehearsalStep,
    RehearsedRow,
    Revision,
    Schedule,
    Slice,
    Stream,
    StreamLine,
    StreamMinute,
    StreamReject,
    StreamTable,
    Today,
    Translation,
    Upload,
    User,
)
from ultravect.client.generated import Map as JobMap
from ultravect.client.generated import NewToken as Token
from ultravect.client.generated import RunEvent as Event
from ultravect.client.generated import RunSummary as StartedRun
from ultravect.client.generated import Token as KnownToken
from ultravect.client.notebook import html_of_rows, html_of_run
from ultravect.client.tables import arrow_of_rows, frame_of

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

__all__ = [
    "Account",
    "Answer",
    "AuditEntry",
    "Change",
    "Check",
    "CheckedLeg",
    "ColumnStep",
    "ColumnSteps",
    "ComparedRow",
    "Comparison",
    "Connection",
    "Differences",
    "Edit",
    "Event",
    "Feed",
    "FeedDays",
    "FeedFile",
    "Finding",
    "Fit",
    "FollowUp",
    "History",
    "Job",
    "JobComparison",
    "JobMap",
    "JobSummary",
    "KnownToken",
    "Layout",
    "Leg",
    "Mark",
    "MarkOfLeg",
    "Message",
    "NotifyRule",
    "Page",
    "Probe",
    "ProbeStep",
    "Rehearsal",
    "RehearsalStep",
    "RehearsedRow",
    "Reject",
    "Revision",
    "Run",
    "RunSummary",
    "Schedule",
    "Slice",
    "StartedRun",
    "Stream",
    "StreamLine",
    "StreamMinute",
    "StreamReject",
    "StreamTable",
    "Today",
    "Token",
    "Translation",
    "Upload",
    "User",
]


class _Ending:
    state: str

    @property
    def ended(self) -> bool:
        """Whether nothing of the run is still to come."""
        return self.state in ("succeeded", "failed", "stopped")


class RunSummary(generated.RunLine, _Ending):
    """A run in a list."""


class Run(generated.Run, _Ending):
    """A run with its legs."""

    def _repr_html_(self) -> str:
        return html_of_run(self)


class Answer(generated.Answer):
    """What a database answered."""

    def arrow(self) -> pa.Table:
        """The rows as an Arrow table, with the types that the database says."""
        return arrow_of_rows(self.columns, self.types, self.rows)

    def frame(self) -> pd.DataFrame:
        """The same as a data frame of pandas."""
        return frame_of(self.arrow())

    def _repr_html_(self) -> str:
        return html_of_rows(self.columns, self.rows, self.more)


class JobSummary(generated.JobSummary):
    """A job in a list."""

    last_run: RunSummary | None


class Job(generated.Job):
    """A job with its file."""

    last_run: RunSummary | None


class Reject(generated.Reject):
    """A row that was not loaded."""

    @property
    def place(self) -> str:
        """What says which row it is: ``row 1,204``, or the values of its key."""
        known: dict[str, str] = json.loads(self.key) if self.key else {}
        return ", ".join(f"{name} {value}" for name, value in known.items()) or f"row {self.row:,}"
