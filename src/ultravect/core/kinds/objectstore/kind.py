"""What the kind objectstore is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.objectstore.settings import ObjectStoreSettings

KIND = Kind(
    name="objectstore",
    holds="files",
    settings=ObjectStoreSettings,
    opens="ultravect.core.kinds.objectstore.storage:ObjectStoreStorage",
    needs={"boto3": "boto3"},
)
