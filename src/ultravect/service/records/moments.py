"""The time of the records' database, which all machines share: leases, and what waits in the queue, go by no other clock."""

from __future__ import annotations

import datetime as dt

from django.conf import settings
from django.db.models import DateTimeField, DurationField, ExpressionWrapper, Value
from django.db.models.functions import Now

from ultravect.service.clock import ahead


def last_sign() -> ExpressionWrapper:
    """Who has given no sign of life since then is lost."""
    return records_now(-dt.timedelta(seconds=settings.LOST_AFTER_SECONDS))


def records_now(later: dt.timedelta = dt.timedelta()) -> ExpressionWrapper:
    """So much later than now, for an update or a condition."""
    return ExpressionWrapper(
        Now() + Value(ahead() + later, output_field=DurationField()), output_field=DateTimeField()
    )
