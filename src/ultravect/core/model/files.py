"""Connections and layouts as files, next to the job files."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from ultravect.core.model.base import Declared, Slug
from ultravect.core.model.layout import Layout


class ConnectionFile(Declared):
    """A connection without its sealed secrets; references to secrets stand in it."""

    ultravect: Literal[1] = Field(description="Version of the file format.")
    connection: Slug
    kind: Slug
    site: Slug | None = Field(default=None, description="The network location whose workers reach it.")
    at_most: int | None = Field(
        default=None, ge=1, le=1000, description="How many legs may use it at once, in all runs together."
    )
    settings: dict[str, Any] = Field(description="As the kind has them; a secret as {from_env: …} or {from_file: …}.")


class ExpectedColumn(Declared):
    """A column that every file of a layout has."""

    name: str = Field(min_length=1)
    type: str = Field(description="Canonical type, such as integer or decimal(18,2).")


class LayoutFile(Declared):
    """A layout under a name, so that jobs and previews can use it."""

    ultravect: Literal[1] = Field(description="Version of the file format.")
    layout: Slug
    about: str = ""
    reads: Layout = Field(description="The layout itself.")
    expects: list[ExpectedColumn] = Field(
        default=[], description="The columns that a file of this layout has, in their order; others do not fit it."
    )
