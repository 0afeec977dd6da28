"""What the kind http is: its settings, and what is opened with them."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import (
    BOUND,
    MACHINE,
    Certificate,
    Secret,
    Url,
    sent_to,
)


class HttpSettings(Declared):
    """Files and JSON that a web server gives."""

    url: Url = Field(
        description="Address that paths are relative to.",
        examples=["https://weather.example.org/data/"],
        json_schema_extra={**MACHINE},
    )
    user: str = Field(default="", json_schema_extra={**BOUND})
    password: Secret = Field(default="", json_schema_extra=sent_to("url"))
    token: Secret = Field(default="", description="Sent as bearer token.", json_schema_extra=sent_to("url"))
    token_url: Url | None = Field(
        default=None,
        description="Address that gives a token for client_id and client_secret (OAuth 2.0, client credentials).",
        json_schema_extra={**MACHINE},
    )
    client_id: str = Field(default="", json_schema_extra={**BOUND})
    client_secret: Secret = Field(
        # the token that it gives is sent to the other address
        default="",
        json_schema_extra=sent_to("token_url", "url"),
    )
    scope: str = Field(default="", description="Of the token that is asked for, where the server wants one.")
    pages: Literal["none", "link_header", "next_link", "cursor", "offset", "number"] = Field(
        default="none",
        description="How the server gives long answers: in pages, each with the address of the next one in a Link header or in "
        "the body, with a cursor, or by an offset or a page number. All pages of a path are read as one file of JSON lines.",
    )
    rows_at: str = Field(
        default="",
        description="Where the rows stand in a page; left out: the page is a list of rows.",
        examples=["data.items"],
    )
    page_field: str = Field(
        default="", description="Where the next address, or the cursor, stands in a page.", examples=["meta.next"]
    )
    page_parameter: str = Field(
        default="", description="Parameter that takes cursor, offset or number; left out: cursor, offset or page."
    )
    page_size: int = Field(
        default=0, ge=0, le=1_000_000, description="Rows a page to be asked for; 0: the server's own number."
    )
    page_size_parameter: str = Field(
        default="limit", min_length=1, description="Parameter that takes the size of a page."
    )
    first_page: int = Field(default=1, ge=0, le=1, description="Number of the first page, where pages are numbered.")
    paths: list[str] = Field(default=[], description="Paths to be listed; HTTP itself cannot list them.")
    private_redirects: bool = Field(
        default=False, description="Whether redirects to another host may lead into a private network."
    )
    tls: Literal["verified", "unchecked"] = "verified"
    tls_ca: Certificate = ""

    @model_validator(mode="after")
    def _one_sign_in(self) -> HttpSettings:
        if bool(self.user) + bool(self.token) + bool(self.client_id) > 1:
            raise ValueError("user and password, a token, or client credentials: one of them")
        if bool(self.client_id) != bool(self.token_url):
            raise ValueError("client credentials are client_id, client_secret and token_url")
        if self.pages in ("next_link", "cursor") and not self.page_field:
            raise ValueError(f"pages: {self.pages} takes page_field, where the next one is named in a page")
        return self


KIND = Kind(
    name="http",
    holds="files",
    settings=HttpSettings,
    opens="ultravect.core.kinds.http.storage:HttpStorage",
    needs={"httpx": "httpx"},
)
