"""What the kind http is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.http.settings import HttpSettings

KIND = Kind(
    name="http",
    holds="files",
    settings=HttpSettings,
    opens="ultravect.core.kinds.http.storage:HttpStorage",
    needs={"httpx": "httpx"},
)
