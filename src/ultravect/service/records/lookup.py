"""Finds records by the names that users give them."""

from __future__ import annotations

from ultravect.service.records.models import Connection, Job


def find_connection(name: str) -> Connection | None:
    return Connection.objects.filter(name=name).first()


def find_job(name: str) -> Job | None:
    """A job that was not deleted."""
    return Job.objects.filter(name=name, deleted_at=None).first()
