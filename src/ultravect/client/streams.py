"""Streams: jobs that follow the log of their source."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from ultravect.client.calls import LIST_SIZE, Calls
from ultravect.client.models import Page, Stream, StreamLine, StreamMinute, StreamReject


class Streams(Calls):
    """Streams: started, followed, paused and removed."""

    def streams(self) -> list[StreamLine]:
        """All of them, by the names of their jobs."""
        return list(self._pages(StreamLine, "streams", {"page_size": LIST_SIZE}))

    def stream(self, job: str) -> Stream:
        """The stream of a job, with what was said of it; ApiError ``stream-missing`` where it has none."""
        return Stream.model_validate(self._json("GET", f"streams/{quote(job, '')}"))

    def start_stream(self, job: str) -> Stream:
        """Starts it, or has it go on, by the job as it is now."""
        return Stream.model_validate(self._json("POST", f"streams/{quote(job, '')}"))

    def pause_stream(self, job: str, why: str = "") -> Stream:
        """Lets it rest; the source keeps its log until it is resumed."""
        return Stream.model_validate(self._json("POST", f"streams/{quote(job, '')}/pause", json={"why": why}))

    def stop_stream(self, job: str, why: str = "") -> Stream:
        """Ends it; the source keeps its log until it is removed."""
        return Stream.model_validate(self._json("POST", f"streams/{quote(job, '')}/stop", json={"why": why}))

    def remove_stream(self, job: str, *, leave: bool = False) -> None:
        """Ends it, and has the source give up what it keeps for it, unless ``leave``."""
        params = {"leave": "true"} if leave else {}
        self._transport.request("DELETE", f"streams/{quote(job, '')}", params=params)

    def stream_minutes(self, job: str, hours: float = 1.0) -> list[StreamMinute]:
        """What it did, minute by minute, the oldest first."""
        found = self._json("GET", f"streams/{quote(job, '')}/minutes", params={"hours": hours})
        return [StreamMinute.model_validate(item) for item in found]

    def stream_rejects(self, job: str, *, object: str = "", page: int = 1, page_size: int = 50) -> Page[StreamReject]:
        """Changes that did not fit the target, the newest first."""
        params: dict[str, Any] = {"page": page, "page_size": page_size} | ({"object": object} if object else {})
        return self._pages(StreamReject, f"streams/{quote(job, '')}/rejects", params)
