"""What settings of connections are made of, and which of them are secret: one model a kind gives forms, schema and docs."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Sequence
from typing import Annotated, Any, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Discriminator, Field, Tag, model_validator

from ultravect.core.model.base import Declared

T = TypeVar("T")
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
# settings that only an admin changes
ADMIN = {"admin": True}
# settings that say as whom, or trusting whom, a secret is sent
BOUND = {"binds_secrets": "always"}
# the same once there is a value: without one, nothing is sent at all
BOUND_ONCE_SET = {"binds_secrets": "once_set"}


def sent_to(*addresses: str) -> dict[str, Any]:
    """Of a secret: the settings whose addresses it is sent to, where these are not all that name a machine."""
    return {**SECRET, "sent_to": list(addresses)}


CONTROL = re.compile(r"[\x00-\x1f\x7f\x80-\x9f\u2028\u2029]")
_LINE_ENDS = str.maketrans("", "", "\r\n\t")


def _one_line(value: T) -> T:
    if isinstance(value, str) and CONTROL.search(value):
        # what is wrong with it is not shown, since libraries would show all of it
        raise ValueError("a secret on one line, without line ends, tabs and other control characters")
    return value


def _lines(value: T) -> T:
    if isinstance(value, str) and CONTROL.search(value.translate(_LINE_ENDS)):
        raise ValueError("text without control characters other than line ends and tabs")
    return value


SECRET_TAGS = ("text", "reference")
_TextOrReference = Annotated[
    Annotated[str, Tag(SECRET_TAGS[0])] | Annotated[SecretReference, Tag(SECRET_TAGS[1])],
    Discriminator(lambda value: SECRET_TAGS[not isinstance(value, str)]),
]
Secret = Annotated[_TextOrReference, AfterValidator(_one_line), Field(json_schema_extra={**SECRET}, repr=False)]
SecretText = Annotated[
    _TextOrReference, AfterValidator(_lines), Field(json_schema_extra={**SECRET, "multiline": True}, repr=False)
]
Host = Annotated[
    str, AfterValidator(_host), Field(min_length=1, examples=["db.example.org"], json_schema_extra={**MACHINE})
]
User = Annotated[str, Field(min_length=1, json_schema_extra={**BOUND})]
Port = Annotated[int, Field(ge=1, le=65535, json_schema_extra={**MACHINE})]
DatabaseName = Annotated[str, Field(min_length=1, json_schema_extra={**INSIDE})]


def _may_be_left_out(schema: dict[str, Any]) -> None:
    """Has forms offer to leave it out: what it is then is not the same for all."""
    schema.pop("default", None)
    chosen = {name: schema.pop(name) for name in ("enum", "type") if name in schema}
    schema["anyOf"] = [chosen, {"type": "null"}]


Tls = Annotated[
    Literal["off", "preferred", "required", "verified"],
    Field(
        description="verified: the certificate and the host name are checked. Left out: verified; preferred for a host of this machine "
        "(localhost, 127.0.0.1) and for an address of a private network.",
        json_schema_extra=_may_be_left_out,
    ),
]
Certificate = Annotated[
    str,
    AfterValidator(_certificate),
    Field(
        description="Certificate (PEM) of the authority that the server's certificate is checked against. "
        "Left out: those this machine trusts.",
        json_schema_extra={"multiline": True, **BOUND},
    ),
]
TLS_ORDER = ("off", "unchecked", "preferred", "required", "verified")
"""From what shows a secret to anyone to what shows it to the right server alone."""


def usual_tls(host: str) -> Literal["preferred", "verified"]:
    """What ``tls`` is where it is left out: verified, but for a host of this machine or of a private network, which often has no
    certificate."""
    if host.startswith("/") or host == "localhost":
        return "preferred"
    try:
        address = ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        return "verified"
    return "preferred" if address.is_loopback or address.is_private else "verified"


def _with_usual_tls(data: Any) -> Any:
    if isinstance(data, dict) and "tls" not in data and isinstance(host := data.get("host"), str):
        return {**data, "tls": usual_tls(host)}
    return data


class TlsByHost(Declared):
    """Settings with a ``host``, and a ``tls`` that goes by it where it is left out."""

    _usual = model_validator(mode="before")(staticmethod(_with_usual_tls))


def _common_last(schema: dict[str, Any]) -> None:
    """Has forms ask first for where a database is."""
    for name in DatabaseSettings.model_fields:
        schema["properties"][name] = schema["properties"].pop(name)


class DatabaseSettings(Declared):
    """What the settings of every database have; a kind adds its own."""

    model_config = ConfigDict(json_schema_extra=_common_last)

    receipts: bool = Field(
        default=True,
        description="Whether each load leaves a receipt in the table ultravect_receipt of the target, by which a run that "
        "is taken over knows what was committed.",
    )
    may_call: bool = Field(
        default=False,
        description="Whether the statements of jobs (before, after) may call procedures, which may do whatever their owner may. Set by an "
        "admin alone.",
        json_schema_extra={**ADMIN},
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


class ServerSettings(DatabaseSettings, TlsByHost):
    """Of a database server; a kind gives the port that is usual."""

    host: Host
    port: Port
    database: DatabaseName
    user: User
    password: Secret = ""
    tls: Tls = "verified"
    tls_ca: Certificate = ""
    staging: Staging = ""


def admin_keys(model: type[BaseModel]) -> frozenset[str]:
    """Names of the settings that only an admin changes."""
    return frozenset(
        name
        for name, field in model.model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("admin")
    )


def secret_keys(model: type[BaseModel]) -> frozenset[str]:
    """Names of the settings that are sealed and never given back."""
    return frozenset(
        name
        for name, field in model.model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("secret")
    )


def moved_secrets(before: BaseModel, after: BaseModel) -> dict[str, list[str]]:
    """The secrets that settings would send elsewhere, as another user, or less well protected than before; each with what has changed."""
    model = type(before)
    changed = {name for name in model.model_fields if getattr(before, name) != getattr(after, name)}
    of_all = [
        name
        for name in model.model_fields
        if name in changed
        and (
            _weaker(str(getattr(before, name)), str(getattr(after, name)))
            if name == "tls"
            else _binds(model, name) == "always" or (_binds(model, name) == "once_set" and getattr(before, name))
        )
    ]
    found = {}
    for secret in secret_keys(model):
        if moved := [*(name for name in addresses_of(model, secret) if name in changed), *of_all]:
            found[secret] = moved
    return found


def _weaker(before: str, after: str) -> bool:
    return after not in TLS_ORDER or before not in TLS_ORDER or TLS_ORDER.index(after) < TLS_ORDER.index(before)


def _binds(model: type[BaseModel], name: str) -> object:
    extra = model.model_fields[name].json_schema_extra
    return extra.get("binds_secrets") if isinstance(extra, dict) else None


def addresses_of(model: type[BaseModel], secret: str) -> Sequence[str]:
    """Names of the settings that say to which machines a secret is sent."""
    extra = model.model_fields[secret].json_schema_extra
    named = extra.get("sent_to") if isinstance(extra, dict) else None
    return [str(name) for name in named] if isinstance(named, list) else machine_keys(model)


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
