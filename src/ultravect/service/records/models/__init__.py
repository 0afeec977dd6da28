"""The records, in the service's own PostgreSQL database."""

from ultravect.service.records.models.connections import UPLOADS_NAME, Connection, SecretsNeeded
from ultravect.service.records.models.declared import (
    Feed,
    FeedRevision,
    Job,
    LayoutVersion,
    Named,
    Revision,
    SavedLayout,
    Version,
)
from ultravect.service.records.models.feeds import FeedEntry
from ultravect.service.records.models.messages import Message, NotifyRule, Occasion
from ultravect.service.records.models.people import AuditEntry, Role, SignInAttempt, Token, User
from ultravect.service.records.models.runs import Change, Event, Leg, LegManager, LegSearch, Reject, Run, Slice
from ultravect.service.records.models.schedules import AwaitedJob, DueJob, Schedule
from ultravect.service.records.models.states import FileState, Outcome, RunKind, State, Trigger
from ultravect.service.records.models.streams import Stream, StreamEvent, StreamMinute, StreamReject, StreamState
from ultravect.service.records.models.workers import SiteLook, WorkerSeen

__all__ = [
    "UPLOADS_NAME",
    "AuditEntry",
    "AwaitedJob",
    "Change",
    "Connection",
    "DueJob",
    "Event",
    "Feed",
    "FeedEntry",
    "FeedRevision",
    "FileState",
    "Job",
    "LayoutVersion",
    "Leg",
    "LegManager",
    "LegSearch",
    "Message",
    "Named",
    "NotifyRule",
    "Occasion",
    "Outcome",
    "Reject",
    "Revision",
    "Role",
    "Run",
    "RunKind",
    "SavedLayout",
    "Schedule",
    "SecretsNeeded",
    "SignInAttempt",
    "SiteLook",
    "Slice",
    "State",
    "Stream",
    "StreamEvent",
    "StreamMinute",
    "StreamReject",
    "StreamState",
    "Token",
    "Trigger",
    "User",
    "Version",
    "WorkerSeen",
]
