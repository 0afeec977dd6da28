"""What the kind filebox is."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import INSIDE, Secret


class FileboxSettings(Declared):
    """One box of files."""

    path: str = Field(min_length=1, description="The database file.", json_schema_extra={**INSIDE})
    box: str = Field(default="main", description="The table in it that holds the files.", pattern="^[a-z_]+$")
    word: Secret = ""


KIND = Kind(name="filebox", holds="files", settings=FileboxSettings, opens="ultravect_filebox.storage:FileboxStorage")
