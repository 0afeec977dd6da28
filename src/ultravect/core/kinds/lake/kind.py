"""What the kind lake is: its settings, and what is opened with them."""

from __future__ import annotations

import re
from typing import Literal
from urllib.parse import SplitResult, parse_qsl, urlsplit

from pydantic import Field, model_validator

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import BOUND, INSIDE, MACHINE, DatabaseSettings, Secret, Url, sent_to

_HOST = re.compile(r"[A-Za-z0-9._:-]+")
_SSL_MODES = ("disable", "prefer", "require", "verify-full")


def _require_known(scheme: str, parts: SplitResult) -> None:
    """ValueError for a parameter that a database's library would take for another host, a file or a program."""
    given = dict(parse_qsl(parts.query, keep_blank_values=True))
    known = {"sslmode"} if scheme == "postgresql" else set()
    if other := sorted(given.keys() - known):
        takes = "sslmode alone" if known else "no parameters"
        raise ValueError(f"the address of a catalogue has {takes}, and not {other[0]}")
    if (mode := given.get("sslmode")) is not None and mode not in _SSL_MODES:
        raise ValueError(f"sslmode is {', '.join(_SSL_MODES[:-1])} or {_SSL_MODES[-1]}")


class LakeSettings(DatabaseSettings):
    """Tables in an open format, Delta Lake or Apache Iceberg: in a folder of the service's machine, or in a bucket of an object store."""

    format: Literal["delta", "iceberg"] = Field(
        default="delta",
        description="Delta Lake, whose tables are folders; or Apache Iceberg, whose tables a catalogue lists.",
    )
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
    region: str = Field(default="us-east-1", json_schema_extra={**BOUND})
    access_key: str = Field(default="", json_schema_extra={**BOUND})
    secret_key: Secret = Field(default="", json_schema_extra=sent_to("bucket", "endpoint"))
    session_token: Secret = Field(default="", json_schema_extra=sent_to("bucket", "endpoint"))
    catalogue: str = Field(
        default="",
        max_length=2000,
        description="Of Iceberg: where the tables are listed. The name of a SQLite file in the folder, the address of a "
        "PostgreSQL database, or that of a REST catalogue. Left out: catalogue.sqlite in the folder.",
        examples=[
            "catalogue.sqlite",
            "postgresql://lake@db.huts.example:5432/lake",
            "https://catalogue.huts.example",
        ],
        json_schema_extra={**MACHINE},
    )
    catalogue_name: str = Field(
        default="default",
        min_length=1,
        max_length=200,
        description="Of Iceberg: the name of the catalogue, of which a database may have several; of a REST catalogue, the warehouse.",
    )
    catalogue_secret: Secret = Field(
        default="",
        description="Of Iceberg: the password of the PostgreSQL database, or the token of the REST catalogue.",
        json_schema_extra=sent_to("catalogue"),
    )
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

    @model_validator(mode="after")
    def _one_catalogue(self) -> LakeSettings:
        given = self.catalogue
        if self.format == "delta":
            if given or self.catalogue_secret:
                raise ValueError("catalogue and catalogue_secret are of Iceberg: tables of Delta Lake need none")
            return self
        scheme, _, rest = given.partition("://")
        if rest:
            if scheme not in ("postgresql", "http", "https"):
                raise ValueError("the address of a catalogue begins with postgresql://, https:// or http://")
            try:
                parts = urlsplit(given)
                named = parts.hostname and (parts.port or 1)
            except ValueError:
                named = None
            # a database's library would take several hosts, and decode one into the path of a socket
            if not named or not _HOST.fullmatch(parts.hostname or ""):
                raise ValueError("the address of a catalogue names a host, and no more than one")
            _require_known(scheme, parts)
            if parts.password:
                raise ValueError("the password of a catalogue goes into catalogue_secret, where it is kept sealed")
        elif not self.path:
            raise ValueError(
                "a bucket needs a catalogue: the address of a PostgreSQL database or of a REST catalogue"
            )
        elif "/" in given or "\\" in given or "\0" in given or given.startswith("."):
            raise ValueError("the file of a catalogue is in the folder itself: name it without a path")
        return self


KIND = Kind(
    name="lake",
    holds="tables",
    settings=LakeSettings,
    opens="ultravect.core.kinds.lake.database:LakeDatabase",
    dialect="ultravect.core.kinds.lake.dialect:LakeDialect",
    more_dialects={"iceberg": "ultravect.core.kinds.lake.dialect:IcebergDialect"},
    needs={"deltalake": "deltalake", "duckdb": "duckdb"},
)
