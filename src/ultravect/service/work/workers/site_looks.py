"""Questions about connections of a site: asked through the records, and answered by a worker of the site."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping
from typing import Any

import structlog
from django.conf import settings
from django.db import connections, transaction

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import SiteLook
from ultravect.service.work.wake_ups import LOOK, wake_workers
from ultravect.service.work.workers.sites import require_worker

log = structlog.get_logger()
_POLL_SECONDS = 0.1
_GRACE_SECONDS = 10.0
_DIED = "died"


def look_elsewhere(sites: frozenset[str], name: str, seconds: float, arguments: Mapping[str, Any]) -> bytes | None:
    """What a worker of the sites says, as ``LookPool.look_here`` gives it; UltravectError where there is no such worker."""
    require_worker(sites)
    task = {"name": name, "seconds": seconds, "arguments": dict(arguments)}
    with transaction.atomic():
        asked = SiteLook.objects.create(sealed=settings.SEALING_KEYS.seal(task), sites=sorted(sites))
        wake_workers(LOOK)
    end = time.monotonic() + seconds + _GRACE_SECONDS
    try:
        while time.monotonic() < end:
            answer = SiteLook.objects.filter(pk=asked.pk).values_list("answer", flat=True).first()
            if answer is not None:
                return b"" if answer == _DIED else answer.encode() or None
            # a slow look must not hold a connection to the records
            connections.close_all()
            time.sleep(_POLL_SECONDS)
    finally:
        SiteLook.objects.filter(pk=asked.pk).delete()
    return None


def answer_look(number: int, look_here: Callable[[str, float, Mapping[str, Any]], bytes | None]) -> None:
    """Looks at what is asked, and leaves the answer; nothing where no one waits for it any more."""
    asked = SiteLook.objects.filter(pk=number, answer=None).first()
    if asked is None:
        return
    task = settings.SEALING_KEYS.unseal(asked.sealed)
    try:
        said = look_here(task["name"], task["seconds"], task["arguments"])
    except UltravectError as error:
        said = json.dumps({"error": error.as_dict()}).encode()
    except Exception as error:
        log.exception("a look at this site failed", look=number)
        said = json.dumps({"unexpected": f"{type(error).__name__}; see the log of the site's worker"}).encode()
    SiteLook.objects.filter(pk=number).update(answer="" if said is None else said.decode() or _DIED)
    connections.close_all()
