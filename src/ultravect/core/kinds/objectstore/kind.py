"""What the kind objectstore is: its settings, and what is opened with them."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import (
    BOUND,
    INSIDE,
    MACHINE,
    Certificate,
    Secret,
    Url,
)


class ObjectStoreSettings(Declared):
    """A bucket of an object store that speaks the S3 protocol."""

    bucket: str = Field(min_length=3, max_length=255, json_schema_extra={**MACHINE})
    prefix: str = Field(
        default="", description="Only what is below this.", examples=["masts/"], json_schema_extra={**INSIDE}
    )
    endpoint: Url | None = Field(
        default=None,
        description="Address of the store. Left out: that of AWS for the region.",
        json_schema_extra={**MACHINE},
    )
    region: str = Field(default="us-east-1", json_schema_extra={**BOUND})
    access_key: str = Field(min_length=1, json_schema_extra={**BOUND})
    secret_key: Secret = ""
    session_token: Secret = ""
    addressing: Literal["path", "host"] = Field(
        default="path",
        description="Whether the bucket stands in the path or in front of the host name.",
        json_schema_extra={**BOUND},
    )
    tls: Literal["verified", "unchecked"] = Field(default="verified", description="For https endpoints.")
    tls_ca: Certificate = ""


KIND = Kind(
    name="objectstore",
    holds="files",
    settings=ObjectStoreSettings,
    opens="ultravect.core.kinds.objectstore.storage:ObjectStoreStorage",
    needs={"boto3": "boto3"},
)
