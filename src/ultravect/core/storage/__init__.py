"""Storage kinds, one module each, registered here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ultravect.core.storage.base import Storage
from ultravect.core.storage.folder import FolderStorage
from ultravect.core.storage.http import HttpStorage
from ultravect.core.storage.objectstore import ObjectStoreStorage
from ultravect.core.storage.sftp import SftpStorage

# name, settings and the roots that folders are confined to
STORAGES: dict[str, Callable[[str, Any, Sequence[str]], Storage]] = {
    "folder": FolderStorage,
    "objectstore": ObjectStoreStorage,
    "sftp": SftpStorage,
    "http": HttpStorage,
}
