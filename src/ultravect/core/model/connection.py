"""What settings of connections are made of, and which of them are secret: one model a kind gives forms, schema and docs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, Discriminator, Field, Tag, model_validator

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


Url = Annotated[str, AfterValidator(_url)]
SECRET = {"secret": True, "writeOnly": True}
# settings that say which machine is reached, and those that say where on it
MACHINE, INSIDE = {"place": "machine"}, {"place": "inside"}
SECRET_TAGS = ("text", "reference")
_TextOrReference = Annotated[
    Annotated[str, Tag(SECRET_TAGS[0])] | Annotated[SecretReference, Tag(SECRET_TAGS[1])],
    Discriminator(lambda value: SECRET_TAGS[not isinstance(value, str)]),
]
Secret = Annotated[_TextOrReference, Field(json_schema_extra={**SECRET}, repr=False)]
SecretText = Annotated[_TextOrReference, Field(json_schema_extra={**SECRET, "multiline": True}, repr=False)]
Host = Annotated[
    str, AfterValidator(_host), Field(min_length=1, examples=["db.example.org"], json_schema_extra={**MACHINE})
]
Port = Annotated[int, Field(ge=1, le=65535, json_schema_extra={**MACHINE})]
DatabaseName = Annotated[str, Field(min_length=1, json_schema_extra={**INSIDE})]
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


class DatabaseSettings(Declared):
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
    str, Field(min_length=1, description="Absolute path of the file.", json_schema_extra={**INSIDE})
]
Create = Annotated[
    bool, Field(description="Whether the file may be missing: it is then made by the first load that writes to it.")
]


class DatabaseFileSettings(DatabaseSettings):
    """Of a database in a file."""

    path: DatabaseFile
    create: Create = False


class ServerSettings(DatabaseSettings):
    """Of a database server; a kind gives the port that is usual."""

    host: Host
    port: Port
    database: DatabaseName
    user: str = Field(min_length=1)
    password: Secret = ""
    tls: Tls = "preferred"
    tls_ca: Certificate = ""
    staging: Staging = ""


def secret_keys(model: type[BaseModel]) -> frozenset[str]:
    """Names of the settings that are sealed and never given back."""
    return frozenset(
        name
        for name, field in model.model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("secret")
    )


def _placed(model: type[BaseModel], *places: str) -> Sequence[str]:
    return [
        name
        for name, field in model.model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("place") in places
    ]


def machine_keys(model: type[BaseModel]) -> Sequence[str]:
    """Names of the settings that say which machine a connection reaches, and so who gets its secrets."""
    return _placed(model, "machine")


def place_keys(model: type[BaseModel]) -> Sequence[str]:
    """Names of the settings that say which place a connection is, the machine's included."""
    return _placed(model, "machine", "inside")
