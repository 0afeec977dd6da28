"""The service's API as methods."""

from __future__ import annotations

from types import TracebackType
from typing import Any

from ultravect.client.access import Access
from ultravect.client.connections import Connections
from ultravect.client.jobs import Jobs
from ultravect.client.layouts import Layouts
from ultravect.client.runs import Runs
from ultravect.client.streams import Streams
from ultravect.client.unattended import Unattended


class Client(Access, Connections, Layouts, Jobs, Runs, Streams, Unattended):
    """Talks to one service. ``timeout`` is in seconds, for everything but following a run."""

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def health(self) -> dict[str, Any]:
        return dict(self._json("GET", "health"))
