"""Removes records that are older than the settings keep them: some at a time, so that nothing waits for it."""

from __future__ import annotations

import datetime as dt

from django.conf import settings
from django.db import transaction
from django.db.models import F, Window
from django.db.models.functions import RowNumber

from ultravect.service.records.models import Change, Event, Message, Reject, Run, State

_AT_ONCE = 200
_NEWEST = 50
"""Of each job, so many of the newest runs stay, however old: they are its history."""

_ENDED = [State.SUCCEEDED, State.FAILED, State.STOPPED]


def remove_old(now: dt.datetime) -> int:
    """Removes some of what is too old; how many records, 0 where nothing is left to remove."""
    return _details(now) or _messages(now) or _runs(now)


def _details(now: dt.datetime) -> int:
    """Events, rejects and changes, which go before their runs do."""
    removed = 0
    for model, days, path in (
        (Event, settings.KEEP_EVENTS_DAYS, "run"),
        (Reject, settings.KEEP_REJECTS_DAYS, "leg__run"),
        (Change, settings.KEEP_REJECTS_DAYS, "leg__run"),
    ):
        if not days:
            continue
        old = {f"{path}__ended_at__lt": now - dt.timedelta(days=days), f"{path}__state__in": _ENDED}
        numbers = list(model._default_manager.filter(**old).order_by("pk").values_list("pk", flat=True)[:_AT_ONCE])
        removed += model._default_manager.filter(pk__in=numbers).delete()[0] if numbers else 0
    return removed


def _messages(now: dt.datetime) -> int:
    if not settings.KEEP_RUNS_DAYS:
        return 0
    old = Message.objects.filter(created_at__lt=now - dt.timedelta(days=settings.KEEP_RUNS_DAYS))
    numbers = list(old.values_list("pk", flat=True)[:_AT_ONCE])
    return Message.objects.filter(pk__in=numbers).delete()[0] if numbers else 0


@transaction.atomic
def _runs(now: dt.datetime) -> int:
    if not settings.KEEP_RUNS_DAYS:
        return 0
    place = Window(RowNumber(), partition_by=[F("job_id")], order_by=F("id").desc())
    newest = Run.objects.annotate(place=place).filter(place__lte=_NEWEST).values("pk")
    # a run that another one follows goes with it, not before it
    old = Run.objects.filter(
        ended_at__lt=now - dt.timedelta(days=settings.KEEP_RUNS_DAYS), state__in=_ENDED, followed_by=None
    )
    wanted = old.exclude(pk__in=newest).order_by("pk").values_list("pk", flat=True)[:_AT_ONCE]
    numbers = list(
        Run.objects.select_for_update(skip_locked=True).filter(pk__in=list(wanted)).values_list("pk", flat=True)
    )
    Run.objects.filter(pk__in=numbers).delete()
    return len(numbers)
