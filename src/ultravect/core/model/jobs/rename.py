"""How the names of tables and columns are made of the source's."""

from __future__ import annotations

import re
from typing import Any, Literal

from pydantic import Field, model_validator

from ultravect.core.model.base import Declared

Case = Literal["as_it_is", "snake_case", "lower_case", "upper_case"]
# between a small letter or digit and a capital, and before the last capital of several that begin a word
_WORDS = re.compile(r"(?<=[^\W_A-Z])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_BREAKS = re.compile(r"[\W_]+")


class Rename(Declared):
    """A rule for names; a single word is the case of both tables and columns."""

    tables: Case = Field(
        default="as_it_is", description="The case of {table}, {file_stem}, {folder}, {sheet} and captures."
    )
    columns: Case = Field(default="as_it_is", description="The case of columns.")
    prefix: str = Field(default="", max_length=60, description="What every column's name begins with.")
    suffix: str = Field(default="", max_length=60, description="What every column's name ends with.")

    @model_validator(mode="before")
    @classmethod
    def _word(cls, given: Any) -> Any:
        return {"tables": given, "columns": given} if isinstance(given, str) else given

    def table(self, name: str) -> str:
        return in_case(name, self.tables)

    def column(self, name: str) -> str:
        return f"{self.prefix}{in_case(name, self.columns)}{self.suffix}"


def in_case(name: str, case: Case) -> str:
    """``name`` in another case; one of which nothing would be left stays as it is."""
    if case == "lower_case":
        return name.lower()
    if case == "upper_case":
        return name.upper()
    if case == "snake_case":
        return _BREAKS.sub("_", _WORDS.sub("_", name)).strip("_").lower() or name
    return name
