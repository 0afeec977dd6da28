"""Settings of each kind of connection, and which of them are secret."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ultravect.core.model.base import Declared

SECRET = {"secret": True, "writeOnly": True}
SecretText = Annotated[str, Field(json_schema_extra={**SECRET}, repr=False)]


class FolderSettings(Declared):
    """A folder on the service's machine, inside one of the roots that the service was started with."""

    path: str = Field(min_length=1, description="Absolute path of the folder.", examples=["/srv/data/incoming"])


class PostgresqlSettings(Declared):
    """A PostgreSQL database."""

    host: str = Field(min_length=1, examples=["db.example.org"])
    port: int = Field(default=5432, ge=1, le=65535)
    database: str = Field(min_length=1)
    user: str = Field(min_length=1)
    password: SecretText = ""
    tls: Literal["off", "preferred", "required", "verified"] = Field(
        default="preferred", description="verified: the certificate and the host name are checked."
    )


Settings = FolderSettings | PostgresqlSettings

KINDS: dict[str, type[FolderSettings] | type[PostgresqlSettings]] = {
    "folder": FolderSettings,
    "postgresql": PostgresqlSettings,
}


def secret_keys(kind: str) -> frozenset[str]:
    """Names of the settings of ``kind`` that are sealed and never given back."""
    return frozenset(
        name
        for name, field in KINDS[kind].model_fields.items()
        if isinstance(field.json_schema_extra, dict) and field.json_schema_extra.get("secret")
    )


def kind_schemas() -> dict[str, Any]:
    """JSON Schema of the settings of every kind."""
    return {kind: model.model_json_schema() for kind, model in KINDS.items()}
