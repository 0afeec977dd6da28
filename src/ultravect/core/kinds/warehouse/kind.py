"""What the kind warehouse is: its settings, and what is opened with them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import Field, model_validator

from ultravect.core.contracts.kind import Kind
from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import (
    BOUND,
    INSIDE,
    MACHINE,
    Certificate,
    DatabaseName,
    DatabaseSettings,
    Host,
    Port,
    Secret,
    Tls,
    TlsByHost,
    Url,
    User,
    sent_to,
)


class WarehouseSettings(DatabaseSettings, TlsByHost):
    """A column-store warehouse that speaks PostgreSQL's protocol, and the bucket through which rows go to it and come from it."""

    host: Host
    port: Port = 5439
    database: DatabaseName
    user: User
    password: Secret = Field(default="", json_schema_extra=sent_to("host", "port"))
    tls: Tls = "verified"
    tls_ca: Certificate = ""
    form: Literal["manifest", "stage"] = Field(
        default="manifest",
        description="How it loads: COPY from a manifest in the bucket; or COPY INTO from a named stage, with names in upper case.",
    )
    stage: str = Field(
        default="",
        pattern=r"^([A-Za-z_][A-Za-z0-9_$]*(\.[A-Za-z_][A-Za-z0-9_$]*){0,2})?$",
        description="The named stage by which the warehouse reaches bucket and prefix; for the form stage.",
        examples=["PUBLIC.LOADS"],
        json_schema_extra={**MACHINE},
    )
    staging: str = Field(
        default="",
        pattern=r"^([a-z0-9][a-z0-9_-]{0,63})?$",
        description="The connection of kind objectstore whose bucket rows are staged in, in place of a bucket and key named here.",
        examples=["loads"],
        json_schema_extra={**MACHINE},
    )
    bucket: str = Field(default="", max_length=255, json_schema_extra={**MACHINE})
    prefix: str = Field(
        default="ultravect/",
        description="Below this, each load and each read has a folder of its own, which it removes.",
        json_schema_extra={**INSIDE},
    )
    endpoint: Url | None = Field(
        default=None,
        description="Address of the object store. Left out: that of AWS for the region.",
        json_schema_extra={**MACHINE},
    )
    region: str = Field(default="us-east-1", pattern=r"^[a-z0-9-]+$", json_schema_extra={**BOUND})
    access_key: str = Field(default="", json_schema_extra={**BOUND})
    secret_key: Secret = ""
    session_token: Secret = ""
    role: str = Field(
        default="",
        max_length=300,
        description="The role by which the warehouse itself reads and writes the bucket. Left out: it is given the key, in the statement.",
        examples=["arn:aws:iam::123456789012:role/warehouse-loads"],
        json_schema_extra={**BOUND},
    )

    @model_validator(mode="after")
    def _fits_together(self) -> WarehouseSettings:
        own = [
            name
            for name in ("bucket", "endpoint", "access_key", "secret_key", "session_token")
            if getattr(self, name)
        ]
        if self.staging and own:
            raise ValueError(f"staging takes bucket and key from another connection: leave {own[0]} out")
        if not self.staging and not (self.bucket and self.access_key):
            raise ValueError("name a bucket and its access_key, or the connection of one in staging")
        if self.bucket and len(self.bucket) < 3:
            raise ValueError(f"bucket {self.bucket!r} is too short: the name of a bucket has at least 3 characters")
        if self.staging and self.form == "manifest" and not self.role:
            raise ValueError("staging needs role: the key of another connection is not given to the warehouse")
        if not self.prefix.strip("/"):
            raise ValueError("prefix names a folder: what is below it is removed after each load")
        if self.form == "stage" and not self.stage:
            raise ValueError(
                "the form stage needs stage: the name of the stage that the warehouse reaches the bucket by"
            )
        if self.form == "manifest" and self.stage:
            raise ValueError("stage belongs to form: stage")
        return self


_TAKEN = ("bucket", "endpoint", "region", "access_key", "secret_key", "session_token")


def with_staging(settings: Mapping[str, Any], name: str, kind: str, place: Mapping[str, Any]) -> Mapping[str, Any]:
    """The settings, with the bucket and key of another connection, and ``prefix`` below its own; UltravectError where that cannot be."""
    if kind != "objectstore" or place.get("tls") == "unchecked" or place.get("tls_ca"):
        what = f"is of kind {kind}" if kind != "objectstore" else "has tls settings of its own"
        raise UltravectError(
            "staging-unfit",
            f"connection {name} {what}: rows cannot be staged there",
            hint="name a connection of kind objectstore, of a store whose certificate this machine trusts",
            connection=name,
        )
    own = {key: value for key, value in settings.items() if key != "staging"}
    parts = [
        str(place.get("prefix") or ""),
        str(own.get("prefix") or WarehouseSettings.model_fields["prefix"].default),
    ]
    taken = {key: place[key] for key in _TAKEN if place.get(key)}
    return {**own, **taken, "prefix": "/".join(part.strip("/") for part in parts if part.strip("/")) + "/"}


KIND = Kind(
    name="warehouse",
    holds="tables",
    settings=WarehouseSettings,
    opens="ultravect.core.kinds.warehouse.database:WarehouseDatabase",
    dialect="ultravect.core.kinds.warehouse.dialect:WarehouseDialect",
    more_dialects={"warehouse_stage": "ultravect.core.kinds.warehouse.stage_dialect:StageDialect"},
    borrows={"staging": "ultravect.core.kinds.warehouse.kind:with_staging"},
    needs={"psycopg": "psycopg[binary]"},
    usual_schema="public",
)
