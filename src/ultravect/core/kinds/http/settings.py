"""Settings of the kind http."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from ultravect.core.model.base import Declared
from ultravect.core.model.connection import (
    MACHINE,
    SECRET,
    Certificate,
    Secret,
    Url,
)


class HttpSettings(Declared):
    """Files and JSON that a web server gives."""

    url: Url = Field(
        description="Address that paths are relative to.",
        examples=["https://weather.example.org/data/"],
        json_schema_extra={**MACHINE},
    )
    user: str = ""
    password: Secret = ""
    token: Secret = Field(default="", description="Sent as bearer token.", json_schema_extra={**SECRET})
    paths: list[str] = Field(default=[], description="Paths to be listed; HTTP itself cannot list them.")
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
