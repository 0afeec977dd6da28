"""What the kind folder is: its settings, and what is opened with them."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import (
    INSIDE,
)


class FolderSettings(Declared):
    """A folder on the service's machine, inside one of the roots that the service was started with."""

    path: str = Field(
        min_length=1,
        description="Absolute path of the folder.",
        examples=["/srv/data/incoming"],
        json_schema_extra={**INSIDE},
    )


KIND = Kind(
    name="folder",
    holds="files",
    settings=FolderSettings,
    opens="ultravect.core.kinds.folder.storage:FolderStorage",
)
