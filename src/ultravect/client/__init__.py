"""The Python client of the service.

from ultravect.client import Client

with Client("http://127.0.0.1:8484", token="uv_…") as service:
    run = service.run("bookings")
    for event in service.follow(run.id):
        print(event.kind, event.data)
"""

from ultravect.client.client import Client
from ultravect.client.errors import ApiError, ServiceUnreachable
from ultravect.client.models import (
    Account,
    Answer,
    AuditEntry,
    Change,
    Check,
    CheckedLeg,
    Connection,
    Event,
    Feed,
    FeedDays,
    FeedFile,
    Finding,
    Fit,
    FollowUp,
    Job,
    JobSummary,
    KnownToken,
    Layout,
    Leg,
    Mark,
    MarkOfLeg,
    Page,
    Probe,
    ProbeStep,
    Rehearsal,
    Reject,
    Run,
    RunSummary,
    Slice,
    Token,
    Translation,
    Upload,
    User,
)

__all__ = [
    "Account",
    "Answer",
    "ApiError",
    "AuditEntry",
    "Change",
    "Check",
    "CheckedLeg",
    "Client",
    "Connection",
    "Event",
    "Feed",
    "FeedDays",
    "FeedFile",
    "Finding",
    "Fit",
    "FollowUp",
    "Job",
    "JobSummary",
    "KnownToken",
    "Layout",
    "Leg",
    "Mark",
    "MarkOfLeg",
    "Page",
    "Probe",
    "ProbeStep",
    "Rehearsal",
    "Reject",
    "Run",
    "RunSummary",
    "ServiceUnreachable",
    "Slice",
    "Token",
    "Translation",
    "Upload",
    "User",
]
