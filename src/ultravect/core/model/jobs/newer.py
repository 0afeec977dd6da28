"""The part of a job file that says which rows or files are new since the last run."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from ultravect.core.model.base import Declared, Duration

_WORDS = ("version", "changed_rows", "log")
"""Ways that need no more than their name."""


def names_log(given: Any) -> bool:
    """Whether ``from.newer``, as it stands in a file or in the records, is the log."""
    return given == "log" or (isinstance(given, dict) and given.get("log") is True)


class MoveTo(Declared):
    """Where files are put that were copied."""

    move: str = Field(min_length=1, description="A folder of the same connection.", examples=["done"])


class NewFiles(Declared):
    """Which files are new: those that were not copied before."""

    compare: Literal["time", "checksum"] = Field(
        default="time",
        description="By what a file is known again: path, size and time of its last change; or its content, whatever it is called.",
    )
    changed: Literal["again", "ignore", "fail"] = Field(
        default="again", description="What happens with a file that was copied and has changed since."
    )
    settled: Duration | None = Field(
        default=None,
        description="Files that were changed within this time are left for the next run: they may still grow.",
    )
    then: Literal["keep", "delete"] | MoveTo = Field(
        default="keep", description="What happens with files once their rows are committed."
    )


class Newer(Declared):
    """Only what is new since the last run; one of ``by``, ``files``, ``version``, ``changed_rows`` and ``log``."""

    by: str | None = Field(
        default=None,
        min_length=1,
        description="A column that grows: a number, a date or a time of change. Rows above the mark are copied.",
        examples=["changed_at"],
    )
    overlap: Duration | int | None = Field(
        default=None,
        description="How far below the mark rows are read again, since they may have been committed late: a duration, or a "
        "number for a column of numbers. Needs mode: upsert.",
        examples=["10 min", 1000],
    )
    since: bool | int | float | str | None = Field(
        default=None, description="Where the first run begins; later ones begin at the mark.", examples=["2026-01-01"]
    )
    files: NewFiles | None = Field(default=None, description="Only files that were not copied before.")
    version: bool = Field(
        default=False,
        description="Rows that came with newer versions of the table, of a kind that keeps versions: a lake.",
    )
    changed_rows: bool = Field(
        default=False,
        description="All rows are read, and compared by key with those of the target: what an upsert does.",
    )

    log: bool = Field(
        default=False,
        description="All changes that the log of the source has, deletes too: the job is a stream. run.follow says how often they are written.",
    )
    publication: str | None = Field(
        default=None,
        min_length=1,
        max_length=63,
        description="With log, of PostgreSQL: a publication that is there already; left out: one is made.",
    )

    @model_validator(mode="before")
    @classmethod
    def _word(cls, given: Any) -> Any:
        if given == "files":
            return {"files": {}}
        if given in _WORDS:
            return {given: True}
        if isinstance(given, str):
            raise ValueError(
                f"files, {', '.join(_WORDS)}, or a mapping such as {{by: changed_at}}; {given!r} is none of them"
            )
        return given

    @field_validator("overlap")
    @classmethod
    def _not_negative(cls, value: Any) -> Any:
        if isinstance(value, bool) or (isinstance(value, int) and value < 0):
            raise ValueError("a duration such as 10 min, or a number that is not negative")
        return value

    @field_validator("since", mode="before")
    @classmethod
    def _plain(cls, value: Any) -> Any:
        return value.isoformat() if isinstance(value, dt.date | dt.datetime) else value

    @model_validator(mode="after")
    def _one_way(self) -> Newer:
        named = [key for key in ("by", "files", *_WORDS) if getattr(self, key)]
        if self.files is not None and "files" not in named:
            named.append("files")
        if len(named) != 1:
            shown = "none is there" if not named else f"{' and '.join(named)} are there"
            raise ValueError(f"from.newer names one of by, files, version, changed_rows and log; {shown}")
        if self.publication is not None and not self.log:
            raise ValueError("from.newer: publication goes with log: true")
        if self.by is None and (self.overlap is not None or self.since is not None):
            raise ValueError("from.newer: overlap and since go with by: a column")
        return self

    @property
    def has_mark(self) -> bool:
        """Whether what was copied is kept as a mark in the target."""
        return not self.changed_rows
