"""What waits for a service to do by itself, found by one statement: most of the time nothing does."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from django.db import connection

from ultravect.service.work.outgoing.delivery import MOST_ATTEMPTS

_LOOK = """
SELECT
  EXISTS (SELECT 1 FROM records_schedule s JOIN records_job j ON j.id = s.job_id
          WHERE s.next_at <= %(now)s AND s.paused_at IS NULL AND j.deleted_at IS NULL),
  EXISTS (SELECT 1 FROM records_run WHERE NOT noted AND state IN ('succeeded', 'failed', 'stopped')),
  EXISTS (SELECT 1 FROM records_duejob d JOIN records_job j ON j.id = d.job_id WHERE d.next_at <= %(now)s AND j.deleted_at IS NULL),
  EXISTS (SELECT 1 FROM records_message WHERE sent_at IS NULL AND send_at <= %(now)s AND attempts <= %(most)s),
  EXISTS (SELECT 1 FROM records_feed WHERE deleted_at IS NULL AND (expected_at IS NULL OR expected_at <= %(now)s)),
  EXISTS (SELECT 1 FROM records_message WHERE remind_at <= %(now)s)
"""


@dataclass(frozen=True)
class Waiting:
    """Whether there are schedules whose time has come, runs that ended, jobs that may be late, messages to send, feeds whose files are
    expected by now, and messages that are to be said again."""

    due: bool
    ended: bool
    late: bool
    messages: bool
    expected: bool
    reminders: bool


def look(now: dt.datetime) -> Waiting:
    with connection.cursor() as cursor:
        cursor.execute(_LOOK, {"now": now, "most": MOST_ATTEMPTS})
        return Waiting(*cursor.fetchone())
