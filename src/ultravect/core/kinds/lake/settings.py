"""Settings of the kind lake."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from ultravect.core.model.connection import INSIDE, MACHINE, DatabaseSettings, Secret, Url


class LakeSettings(DatabaseSettings):
    """Tables in the open format Delta Lake: in a folder of the service's machine, or in a bucket of an object store."""

    receipts: bool = Field(
        default=True,
        description="Whether each load leaves a receipt in its commit, by which a run that is taken over knows what was committed.",
    )
    path: str = Field(
        default="",
        description="Absolute path of the folder, where the tables are on the service's machine.",
        examples=["/srv/data/lake"],
        json_schema_extra={**INSIDE},
    )
    bucket: str = Field(default="", max_length=255, json_schema_extra={**MACHINE})
    prefix: str = Field(
        default="", description="Only what is below this.", examples=["lake/"], json_schema_extra={**INSIDE}
    )
    endpoint: Url | None = Field(
        default=None,
        description="Address of the object store. Left out: that of AWS for the region.",
        json_schema_extra={**MACHINE},
    )
    region: str = "us-east-1"
    access_key: str = ""
    secret_key: Secret = ""
    session_token: Secret = ""
    compact_after: int = Field(
        default=0,
        ge=0,
        le=100_000,
        description="Join small files of a table once it has more of them than this, after a load; 0: never.",
    )
    keep_versions: Literal["all", "30 days", "7 days"] = Field(
        default="all", description="How long files stay that only older versions of a table have."
    )

    @model_validator(mode="after")
    def _one_place(self) -> LakeSettings:
        if bool(self.path) == bool(self.bucket):
            raise ValueError("a lake is in a folder or in a bucket: set path or bucket")
        if self.bucket and not self.access_key:
            raise ValueError("a bucket takes access_key and secret_key")
        if self.path and (self.prefix or self.endpoint or self.access_key):
            raise ValueError("prefix, endpoint and access_key are of a bucket, not of a folder")
        return self
