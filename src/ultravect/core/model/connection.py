"""Settings of each kind of connection, and which of them are secret: one model a kind gives forms, schema and docs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Discriminator, Field, Tag, model_validator

from ultravect.core.model.base import Declared

_VARIABLE = re.compile(r"^[A-Za-z_][A-Za-z0-9_]*$")


class SecretReference(Declared):
    """Where a secret is kept outside of the service; it is read each time it is needed, and never stored."""

    from_env: str | None = Field(default=None, description="Name of an environment variable of the service.")
    from_file: str | None = Field(default=None, description="Name of a file in the service's folder of secrets.")

    @model_validator(mode="after")
    def _one(self) -> SecretReference:
        if (self.from_env is None) == (self.from_file is None):
            raise ValueError("a reference names one place: from_env or from_file")
        if self.from_env is not None and not _VARIABLE.match(self.from_env):
            raise ValueError("from_env takes the name of an environment variable, such as SECRET_WAREHOUSE")
        if self.from_file is not None and (
            not self.from_file or "/" in self.from_file or self.from_file.startswith(".")
        ):
            raise ValueError(
                "from_file takes the name of a file in the folder of secrets, such as warehouse-password"
            )
        return self


def _host(value: str) -> str:
    if any(character.isspace() for character in value) or "://" in value:
        raise ValueError("a host name or address alone, such as db.example.org")
    return value


def _url(value: str) -> str:
    if not re.match(r"^https?://[^\s/?#]+", value):
        raise ValueError("an address that starts with https:// or http://")
    if "@" in value.split("/")[2]:
        raise ValueError("no user and password in the address: they have settings of their own")
    return value


def _certificate(value: str) -> str:
    if value and "-----BEGIN CERTIFICATE-----" not in value:
        raise ValueError("the text of a certificate, from -----BEGIN CERTIFICATE----- on")
    return value


SECRET = {"secret": True, "writeOnly": True}
# settings that say which machine is reached, and those that say where on it
_REACHES, _INSIDE = {"place": "machine"}, {"place": "inside"}
SECRET_TAGS = ("text", "reference")
_TextOrReference = Annotated[
    Annotated[str, Tag(SECRET_TAGS[0])] | Annotated[SecretReference, Tag(SECRET_TAGS[1])],
    Discriminator(lambda value: SECRET_TAGS[not isinstance(value, str)]),
]
Secret = Annotated[_TextOrReference, Field(json_schema_extra={**SECRET}, repr=False)]
SecretText = Annotated[_TextOrReference, Field(json_schema_extra={**SECRET, "multiline": True}, repr=False)]
Host = Annotated[
    str, AfterValidator(_host), Field(min_length=1, examples=["db.example.org"], json_schema_extra={**_REACHES})
]
Port = Annotated[int, Field(ge=1, le=65535, json_schema_extra={**_REACHES})]
Database = Annotated[str, Field(min_length=1, json_schema_extra={**_INSIDE})]
Tls = Annotated[
    Literal["off", "preferred", "required", "verified"],
    Field(description="verified: the certificate and the host name are checked."),
]
Certificate = Annotated[
    str,
    AfterValidator(_certificate),
    Field(
        description="Certificate (PEM) of the authority that the server's certificate is checked against. "
        "Left out: those this machine trusts.",
        json_schema_extra={"multiline": True},
    ),
]


class FolderSettings(Declared):
    """A folder on the service's machine, inside one of the roots that the service was started with."""

    path: str = Field(
        min_length=1,
        description="Absolute path of the folder.",
        examples=["/srv/data/incoming"],
        json_schema_extra={**_INSIDE},
    )


class ObjectStoreSettings(Declared):
    """A bucket of an object store that speaks the S3 protocol."""

    bucket: str = Field(min_length=3, max_length=255, json_schema_extra={**_REACHES})
    prefix: str = Field(
        default="", description="Only what is below this.", examples=["masts/"], json_schema_extra={**_INSIDE}
    )
    endpoint: Annotated[str, AfterValidator(_url)] | None = Field(
        default=None,
        description="Address of the store. Left out: that of AWS for the region.",
        json_schema_extra={**_REACHES},
    )
    region: str = "us-east-1"
    access_key: str = Field(min_length=1)
    secret_key: Secret = ""
    session_token: Secret = ""
    addressing: Literal["path", "host"] = Field(
        default="path", description="Whether the bucket stands in the path or in front of the host name."
    )
    tls: Literal["verified", "unchecked"] = Field(default="verified", description="For https endpoints.")
    tls_ca: Certificate = ""


class SftpSettings(Declared):
    """A folder of an SFTP server."""

    host: Host
    port: Port = 22
    user: str = Field(min_length=1)
    password: Secret = ""
    private_key: SecretText = ""
    passphrase: Secret = Field(
        default="", description="Of the private key, if it has one.", json_schema_extra={**SECRET}
    )
    host_key: str = Field(
        default="",
        description="The server's public key, such as `ssh-ed25519 AAAA…`. `connection test` shows it, to be compared "
        "with what the server's owner says; without it, nothing is sent.",
    )
    folder: str = Field(
        default="",
        description="Left out: where the server puts the user.",
        examples=["/outgoing"],
        json_schema_extra={**_INSIDE},
    )


class HttpSettings(Declared):
    """Files and JSON that a web server gives."""

    url: Annotated[str, AfterValidator(_url)] = Field(
        description="Address that paths are relative to.",
        examples=["https://weather.example.org/data/"],
        json_schema_extra={**_REACHES},
    )
    user: str = ""
    password: Secret = ""
    token: Secret = Field(default="", description="Sent as bearer token.", json_schema_extra={**SECRET})
    paths: list[str] = Field(default=[], description="Paths to be listed; HTTP itself cannot tell them.")
    private_redirects: bool = Field(
        default=False, description="Whether redirects to another host may lead into a private network."
    )
    tls: Literal["verified", "unchecked"] = "verified"
    tls_ca: Certificate = ""

    @model_validator(mode="after")
    def _one_sign_in(self) -> HttpSettings:
        if self.user and self.token:
            raise ValueError("user and password, or a token: not both")
        return self


class _DatabaseSettings(Declared):
    receipts: bool = Field(
        default=True,
        description="Whether each load leaves a receipt in the table ultravect_receipt of the target, by which a run that "
        "is taken over knows what was committed.",
    )


Staging = Annotated[
    str,
    Field(
        max_length=64,
        description="Schema in which loads prepare tables before they take the target's place. Left out: the target's own.",
        examples=["ultravect_work"],
    ),
]


DatabaseFile = Annotated[
    str, Field(min_length=1, description="Absolute path of the file.", json_schema_extra={**_INSIDE})
]
Create = Annotated[
    bool, Field(description="Whether the file may be missing: it is then made by the first load that writes to it.")
]


class PostgresqlSettings(_DatabaseSettings):
    """A PostgreSQL database."""

    host: Host
    port: Port = 5432
    database: Database
    user: str = Field(min_length=1)
    password: Secret = ""
    tls: Tls = "preferred"
    tls_ca: Certificate = ""
    staging: Staging = ""


class MariadbSettings(_DatabaseSettings):
    """A MariaDB or MySQL database."""

    host: Host
    port: Port = 3306
    database: Database
    user: str = Field(min_length=1)
    password: Secret = ""
    tls: Tls = "preferred"
    tls_ca: Certificate = ""
    staging: Staging = ""


class SqliteSettings(_DatabaseSettings):
    """A SQLite database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/guestbook.db"])
    create: Create = False


class DuckdbSettings(_DatabaseSettings):
    """A DuckDB database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/weather.duckdb"])
    create: Create = False


Settings = (
    FolderSettings
    | ObjectStoreSettings
    | SftpSettings
    | HttpSettings
    | PostgresqlSettings
    | MariadbSettings
    | SqliteSettings
    | DuckdbSettings
)

KINDS: dict[str, type[Settings]] = {
    "postgresql": PostgresqlSettings,
    "mariadb": MariadbSettings,
    "sqlite": SqliteSettings,
    "duckdb": DuckdbSettings,
    "folder": FolderSettings,
    "objectstore": ObjectStoreSettings,
    "sftp": SftpSettings,
    "http": HttpSettings,
}


def secret_keys(kind: str) -> frozenset[str]:
    """Names of the settings of ``kind`` that are sealed and never given back."""
    return frozenset(
        name
        for name, field in KINDS[kind].model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("secret")
    )


def _placed(kind: str, *places: str) -> Sequence[str]:
    return [
        name
        for name, field in KINDS[kind].model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("place") in places
    ]


def machine_keys(kind: str) -> Sequence[str]:
    """Names of the settings that say which machine a connection of ``kind`` reaches, and so who gets its secrets."""
    return _placed(kind, "machine")


def place_keys(kind: str) -> Sequence[str]:
    """Names of the settings that say which place a connection of ``kind`` is, the machine's included."""
    return _placed(kind, "machine", "inside")


def kind_schemas() -> dict[str, Any]:
    """JSON Schema of the settings of every kind."""
    return {kind: model.model_json_schema() for kind, model in KINDS.items()}
