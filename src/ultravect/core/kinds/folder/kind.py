"""What the kind folder is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.folder.settings import FolderSettings

KIND = Kind(
    name="folder",
    holds="files",
    settings=FolderSettings,
    opens="ultravect.core.kinds.folder.storage:FolderStorage",
)
