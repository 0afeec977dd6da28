"""Schedules, messages, and what there is to know this morning."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from ultravect.client.calls import LIST_SIZE, Calls
from ultravect.client.models import (
    History,
    Message,
    NotifyRule,
    Page,
    Schedule,
    Today,
)


class Unattended(Calls):
    """Schedules, messages, and what there is to know this morning."""

    def today(self) -> Today:
        """What failed and is not made good, what is late, runs now, comes next, and was rejected, within a day."""
        return Today.model_validate(self._json("GET", "today"))

    def history(self, job: str) -> History:
        """How the last runs of a job went: rows and seconds, with what is usual."""
        return History.model_validate(self._json("GET", f"jobs/{quote(job, '')}/history"))

    def notify_rules(self) -> list[NotifyRule]:
        """Who is sent a message of what."""
        return list(self._pages(NotifyRule, "notify", {"page_size": LIST_SIZE}))

    def save_notify_rule(
        self,
        name: str,
        occasions: Sequence[str],
        *,
        mail: Sequence[str] = (),
        webhook: str = "",
        key: str | None = None,
        jobs: Sequence[str] = (),
        labels: Sequence[str] = (),
        quiet: tuple[str, str, str] | None = None,
        remind_hours: int = 0,
    ) -> NotifyRule:
        """Adds a rule, or replaces it. ``key``: what messages to the webhook are signed with; ``quiet``: from, to, time zone;
        ``remind_hours``: after how many hours what lasts is said again."""
        asked: dict[str, Any] = {"occasions": list(occasions), "mail": list(mail), "webhook": webhook}
        asked |= {"jobs": list(jobs), "labels": list(labels), "remind_hours": remind_hours} | (
            {} if key is None else {"key": key}
        )
        if quiet:
            asked |= {"quiet_from": quiet[0], "quiet_to": quiet[1], "quiet_zone": quiet[2]}
        return NotifyRule.model_validate(self._json("PUT", f"notify/{quote(name, '')}", json=asked))

    def remove_notify_rule(self, name: str) -> None:
        self._transport.request("DELETE", f"notify/{quote(name, '')}")

    def test_notify_rule(self, name: str) -> Message:
        """Sends a test message at once; ApiError ``message-not-sent`` says why it could not be."""
        return Message.model_validate(self._json("POST", f"notify/{quote(name, '')}/test"))

    def messages(self, *, page: int = 1, page_size: int = 50) -> Page[Message]:
        params = {"page": page, "page_size": page_size}
        return self._pages(Message, "messages", params)

    def schedules(self, *, job: str = "") -> list[Schedule]:
        """When jobs are run by themselves, those that come next first."""
        params: dict[str, Any] = {"page_size": LIST_SIZE} | ({"job": job} if job else {})
        return list(self._pages(Schedule, "schedules", params))

    def pause_schedules(self, job: str, why: str) -> list[Schedule]:
        found = self._json("POST", f"jobs/{quote(job, '')}/pause", json={"why": why})
        return [Schedule.model_validate(item) for item in found]

    def resume_schedules(self, job: str) -> list[Schedule]:
        """Times that came meanwhile are not made up for."""
        return [Schedule.model_validate(item) for item in self._json("POST", f"jobs/{quote(job, '')}/resume")]

    def next_times(self, cron: str, zone: str = "UTC") -> list[str]:
        """The next five times of a schedule that is being written."""
        return list(self._json("POST", "schedules/times", json={"cron": cron, "timezone": zone})["next"])
