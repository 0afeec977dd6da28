"""Sends messages: by mail, and to webhooks. One that cannot be sent is tried again for a day."""

from __future__ import annotations

import datetime as dt
import hashlib
import hmac
import html
import json
import smtplib
import ssl
from email.message import EmailMessage
from typing import Any
from urllib.parse import unquote, urlsplit

import httpx
import structlog
from django.conf import settings
from django.db import transaction
from django.utils import timezone

from ultravect.service.records.models import Message, Occasion
from ultravect.service.work.outgoing.mail_session import mail_session
from ultravect.service.work.outgoing.posting import post

log = structlog.get_logger()
_PAUSES = (30, 60, 300, 900, 3600, 3 * 3600, 6 * 3600, 12 * 3600)
MOST_ATTEMPTS = len(_PAUSES)
"""A message that was tried more often is given up."""

_SHOWN = 30
_TITLES = {
    Occasion.FAILED: "failed",
    Occasion.RECOVERED: "recovered",
    Occasion.REJECTS: "rejected rows",
    Occasion.LATE: "late",
    Occasion.GUARD: "guard not met",
    Occasion.CHANGED: "changed its target",
    Occasion.MISSING: "file missing",
    Occasion.UNMATCHED: "files that fit no provider",
    Occasion.TEST: "a test",
}
_FAILURES = (OSError, smtplib.SMTPException, httpx.HTTPError, ValueError)
_LASTING = (Occasion.FAILED, Occasion.LATE)


def send_one() -> bool:
    """Sends one message that is to be sent now; False where there is none."""
    with transaction.atomic():
        message = (
            Message.objects.select_for_update(skip_locked=True, of=("self",))
            .select_related("rule")
            .filter(sent_at=None, send_at__lte=timezone.now(), attempts__lte=MOST_ATTEMPTS)
            .order_by("send_at", "pk")
            .first()
        )
        if message is None:
            return False
        # counted before it is sent: one that kills the process is not tried for ever
        message.attempts += 1
        again = _PAUSES[min(message.attempts, len(_PAUSES)) - 1]
        message.send_at = timezone.now() + dt.timedelta(seconds=again)
        message.save(update_fields=["attempts", "send_at"])
    try:
        deliver(message)
    except _FAILURES as error:
        reason = " ".join(str(error).split())[:300] or type(error).__name__
        log.warning("a message could not be sent", rule=message.rule.name, message=message.pk, reason=reason)
        Message.objects.filter(pk=message.pk).update(error=reason)
        return True
    now, hours = timezone.now(), message.rule.remind_hours
    again_at = now + dt.timedelta(hours=hours) if hours and message.occasion in _LASTING else None
    Message.objects.filter(pk=message.pk).update(sent_at=now, error="", remind_at=again_at)
    return True


def deliver(message: Message) -> None:
    """Sends a message to all places of its rule that do not have it yet; raises what went wrong first, once all were tried."""
    failed: Exception | None = None
    for place, wanted, send in (("mail", message.rule.mail, _mail), ("webhook", message.rule.webhook, _post)):
        if not wanted or place in message.delivered:
            continue
        try:
            send(message)
        except _FAILURES as error:
            failed = failed or error
        else:
            message.delivered = [*message.delivered, place]
            message.save(update_fields=["delivered"])
    if failed is not None:
        raise failed


def subject_of(message: Message) -> str:
    jobs = list(dict.fromkeys(str(item["job"]) for item in message.items if item.get("job")))
    named = jobs[0] if len(jobs) == 1 else f"{len(jobs)} jobs" if jobs else "Ultravect"
    return f"{named}: {_TITLES[Occasion(message.occasion)]}"


def _lines(message: Message) -> list[str]:
    lines = []
    for item in message.items[:_SHOWN]:
        run = f", run {item['run']}" if item.get("run") else ""
        code = f" [{item['code']}]" if item.get("code") else ""
        lines.append(f"{item.get('job', '')}{run}{code}: {item.get('text', '')}")
        if item.get("hint"):
            lines.append(f"    {item['hint']}")
    if len(message.items) > _SHOWN:
        lines.append(f"and {len(message.items) - _SHOWN} more of the same cause")
    return lines


def body_of(message: Message) -> dict[str, Any]:
    """What a webhook is sent; documented in docs/operations.md."""
    return {
        "id": message.pk,
        "rule": message.rule.name,
        "occasion": message.occasion,
        "subject": subject_of(message),
        "at": message.created_at.isoformat(),
        "items": message.items,
    }


def _mail(message: Message) -> None:
    if not settings.MAIL_SERVER:
        raise ValueError("no mail server is set: ULTRAVECT_MAIL_SERVER")
    lines = _lines(message)
    mail = EmailMessage()
    mail["Subject"] = subject_of(message).replace("\n", " ")[:200]
    mail["From"] = settings.MAIL_FROM
    mail["To"] = ", ".join(message.rule.mail)
    mail["X-Ultravect-Message"] = str(message.pk)
    mail.set_content("\n".join([*lines, "", f"Sent by the rule {message.rule.name} of Ultravect."]))
    rows = "".join(f"<p style='margin:0 0 8px;white-space:pre-wrap'>{html.escape(line)}</p>" for line in lines)
    mail.add_alternative(f"<div style='font-family:sans-serif'>{rows}</div>", subtype="html")
    parts = urlsplit(settings.MAIL_SERVER)
    host, user = parts.hostname or "", unquote(parts.username or "")
    secure = parts.scheme == "smtps"
    context = ssl.create_default_context()
    port = parts.port or (465 if secure else 587)
    with mail_session(host, port, context if secure else None) as server:
        if parts.scheme == "smtp+tls":
            server.starttls(context=context)
        if user:
            server.login(user, settings.MAIL_PASSWORD)
        server.send_message(mail)


def signature(key: str, at: str, body: bytes) -> str:
    """What a receiver computes to know that a message is from here: HMAC-SHA256 over the time, a dot, and the body."""
    return hmac.new(key.encode(), at.encode() + b"." + body, hashlib.sha256).hexdigest()


def _post(message: Message) -> None:
    body = json.dumps(body_of(message)).encode()
    at = str(int(timezone.now().timestamp()))
    headers = {"Content-Type": "application/json", "X-Ultravect-Time": at, "X-Ultravect-Message": str(message.pk)}
    key = settings.SEALING_KEYS.unseal(message.rule.sealed).get("key", "")
    if key:
        headers["X-Ultravect-Signature"] = signature(key, at, body)
    post(message.rule.webhook, body, headers)
