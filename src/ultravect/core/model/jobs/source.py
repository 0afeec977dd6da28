"""The part of a job file that says where rows come from."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from ultravect.core.model.base import Declared, Slug
from ultravect.core.model.feed import FeedFile, FeedPart
from ultravect.core.model.jobs.newer import Newer
from ultravect.core.model.layout import LayoutOrName

_OBJECTS = ("table", "tables", "query", "files", "feed")
TablePattern = Annotated[str, Field(min_length=1)]


class JobSource(Declared):
    """Where rows come from."""

    connection: Slug = Field(
        default="", validate_default=False, description="Where the rows are; a feed says it itself."
    )
    feed: Slug | FeedFile | None = Field(
        default=None, description="A feed: the files of all its providers, a leg for each version that has new ones."
    )
    part: FeedPart | None = Field(
        default=None, description="Which files of a feed a leg copies: written by runs, not by hand."
    )
    table: str | None = Field(
        default=None,
        min_length=1,
        description="A table or view, with its schema in front if need be.",
        examples=["booking", "ledger.booking"],
    )
    tables: list[TablePattern] | None = Field(
        default=None,
        min_length=1,
        description="Tables and views by their names or patterns, with their schema in front if need be: a leg each. "
        "* and ? stand for any characters.",
        examples=[["booking*", "guest"]],
    )
    left_out: list[TablePattern] = Field(
        alias="except", default=[], description="Which of from.tables are not copied.", examples=[["*_tmp"]]
    )
    query: str | None = Field(
        default=None,
        min_length=1,
        description="A statement that reads, in the source's SQL. Its columns are those of the source.",
        examples=["select hut_code, count(*) as bookings from booking group by hut_code"],
    )
    files: str | None = Field(
        default=None,
        min_length=1,
        description="Path of a file inside the connection, or a pattern of many: * stays in a folder, ** crosses folders. "
        "A {name} in it stands for one part of the path, by which the target is named: a leg each.",
        examples=["bookings.csv", "slips/**/*.txt", "{hut}/*.csv"],
    )
    sheets: list[TablePattern] | None = Field(
        default=None,
        min_length=1,
        description="Sheets of the workbooks, by their names or patterns: a leg each.",
        examples=[["*"], ["inspections", "repairs*"]],
    )
    allow_none: bool = Field(
        default=False, description="Whether a pattern that matches nothing is a note, and not an error."
    )
    at: int | str | None = Field(
        default=None,
        description="The table as it was: a version, or a moment; of kinds that keep versions. Placeholders are filled in.",
        examples=[12, "2026-07-01T00:00:00Z", "{run_date}"],
    )
    where: str | None = Field(
        default=None,
        min_length=1,
        description="Only rows for which this is true are copied. Filtered in the source where that gives the same.",
        examples=["season = :season and status <> 'draft'"],
    )
    newer: Newer | None = Field(
        default=None,
        description="Only what is new since the last run: by a column that grows, or files that were not copied before.",
        examples=[{"by": "changed_at", "overlap": "10 min"}, "files"],
    )
    layout: LayoutOrName | None = Field(
        default=None,
        description="A mapping, or the name of a saved layout, such as weigh-slips or weigh-slips@2. Left out: found from the file, and shown.",
    )

    @model_validator(mode="after")
    def _one_object(self) -> JobSource:
        named = [key for key in _OBJECTS if getattr(self, key) is not None]
        if len(named) != 1:
            shown = "none is there" if not named else f"{' and '.join(named)} are there"
            raise ValueError(f"from names one of table, tables, query and files; {shown}")
        if self.feed is not None and (self.connection or self.where or self.newer or self.layout or self.sheets):
            raise ValueError(
                "from.feed says by itself where its files are, how they are read, and copies only new ones: name nothing else"
            )
        if self.feed is None and not self.connection:
            raise ValueError("from.connection is missing")
        if self.at is not None and self.table is None and self.tables is None:
            raise ValueError("from.at goes with from.table or from.tables: it says which version of them is read")
        if self.left_out and self.tables is None:
            raise ValueError("from.except goes with from.tables: it names some of those")
        if self.sheets is not None and self.files is None:
            raise ValueError("from.sheets goes with from.files, which names the workbooks")
        if self.newer is not None and self.newer.files is not None and self.files is None:
            raise ValueError("from.newer: files goes with from.files; for tables name a column: {by: changed_at}")
        by = self.newer.by if self.newer is not None else None
        if by is not None and self.files is not None and not self.asks_by_mark:
            raise ValueError(
                "from.newer: {by: …} asks a database, or a server by {mark} in from.files; files are new as a whole: newer: files"
            )
        if self.asks_by_mark and (by is None or self.newer is None or self.newer.since is None or self.newer.overlap):
            raise ValueError(
                "{mark} in from.files goes with from.newer: {by: COLUMN, since: VALUE}, whose value it is in the first run; without overlap"
            )
        if self.newer is not None and self.newer.version and (self.table is None and self.tables is None):
            raise ValueError("from.newer: version goes with from.table or from.tables, which have versions")
        if (
            self.newer is not None
            and self.newer.log
            and ((self.table is None and self.tables is None) or self.at is not None)
        ):
            raise ValueError(
                "from.newer: log goes with from.table or from.tables, without from.at: a log is of tables"
            )
        if self.newer is not None and self.newer.version and self.at is not None:
            raise ValueError(
                "from.newer: version reads up to the newest version, and from.at names one: leave one of them out"
            )
        if self.layout is not None and self.files is None:
            raise ValueError("from.layout is for files; a table has none")
        return self

    @property
    def asks_by_mark(self) -> bool:
        """Whether the mark is a part of the address, so that the server itself leaves out what is not new."""
        return self.files is not None and "{mark}" in self.files.replace("{{", "")

    @property
    def object_name(self) -> str:
        """What rows come from, as it is shown."""
        if self.feed is not None:
            return f"feed {self.feed if isinstance(self.feed, str) else self.feed.feed}"
        return self.table or self.files or ", ".join(self.tables or []) or "query"

    @property
    def label(self) -> str:
        return f"{self.connection}:{self.object_name}" if self.connection else self.object_name

    @property
    def place(self) -> str:
        """Which key names the object: its place in the job file."""
        return next(f"from.{key}" for key in _OBJECTS if getattr(self, key) is not None)
