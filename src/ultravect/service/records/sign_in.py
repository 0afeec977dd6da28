"""Signing in with a password, at most so often: by account and by address, in all processes of the service together."""

from __future__ import annotations

import datetime as dt
import threading
from dataclasses import dataclass

from django.contrib.auth.hashers import make_password
from django.db import connections
from django.utils import timezone

from ultravect.service.records.models import SignInAttempt, User

_WINDOW = dt.timedelta(seconds=60)
PER_ACCOUNT, PER_ADDRESS = 10, 30
# hashing takes a processor and memory, on purpose: never all of them
_HASHING = threading.BoundedSemaphore(1)
_WAIT_SECONDS = 5.0


@dataclass(frozen=True)
class TooMany(Exception):
    """More sign-ins than are allowed; ``seconds`` until the next one may be tried."""

    seconds: int


def check_password(name: str, password: str, address: str) -> User | None:
    """The user, or None when user and password do not match; TooMany when it was tried too often.

    No connection to the records is held while the password is hashed.
    """
    keys = {f"account {name.lower()[:150]}": PER_ACCOUNT, f"address {address[:64]}": PER_ADDRESS}
    since = timezone.now() - _WINDOW
    SignInAttempt.objects.filter(at__lt=since).delete()
    for key, most in keys.items():
        if SignInAttempt.objects.filter(key=key, at__gte=since).count() >= most:
            raise TooMany(int(_WINDOW.total_seconds()))
    # counted before it is tried, so that many at once count as well
    attempts = SignInAttempt.objects.bulk_create(SignInAttempt(key=key) for key in keys)
    found = User.objects.filter(username=name).first()
    connections.close_all()
    if not _HASHING.acquire(timeout=_WAIT_SECONDS):
        raise TooMany(int(_WAIT_SECONDS))
    try:
        if found is None:
            make_password(password)  # takes as long as for a user that there is
            return None
        good = found.check_password(password)
    finally:
        _HASHING.release()
    if not good or not found.is_active:
        return None
    SignInAttempt.objects.filter(pk__in=[attempt.pk for attempt in attempts]).delete()
    SignInAttempt.objects.filter(key=next(iter(keys))).delete()
    return found
