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
    Answer,
    Check,
    Connection,
    Event,
    Finding,
    Job,
    JobSummary,
    Leg,
    Page,
    Probe,
    Reject,
    Run,
    RunSummary,
    Token,
    User,
)

__all__ = [
    "Answer",
    "ApiError",
    "Check",
    "Client",
    "Connection",
    "Event",
    "Finding",
    "Job",
    "JobSummary",
    "Leg",
    "Page",
    "Probe",
    "Reject",
    "Run",
    "RunSummary",
    "ServiceUnreachable",
    "Token",
    "User",
]
