"""The part of a job file that says where rows go, and how they are written."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field, model_validator

from ultravect.core.model.base import Declared, Duration, RejectLimit, Slug
from ultravect.core.model.jobs.rename import Rename
from ultravect.core.model.written import Split, WrittenLayout, WrittenXlsx, split_sheet, written_layout


class FlagGone(Declared):
    """A column that says which rows the source has no more."""

    flag: str = Field(min_length=1, description="A column of booleans.", examples=["is_gone"])


class Target(Declared):
    """Where rows go, and how they are written."""

    connection: Slug
    table: str | None = Field(
        default=None,
        min_length=1,
        description="Table, with its schema in front if need be. Placeholders are filled in, as in into.files.",
        examples=["ledger.booking", "raw.{table}"],
    )
    files: str | None = Field(
        default=None,
        min_length=1,
        description="Path of the file to be written; {run_date}, {run_id}, {table}, {file_stem}, {folder}, {sheet}, {part}, captures of "
        "from.files and parameters in it are filled in. The ending gives the format.",
        examples=["exports/booking-{run_date}.parquet"],
    )
    folder: str | None = Field(
        default=None,
        description="Folder into which files are copied as they are, no byte changed, with their tree below the pattern's "
        "first wildcard. Placeholders are filled in.",
        examples=["mirror/slips"],
    )
    layout: WrittenLayout | None = Field(
        default=None, description="How files are written. Left out: as their ending says, with the format's defaults."
    )
    split: Split = Field(default=Split(), description="When another file is begun.")
    mode: Literal["append", "overwrite", "upsert"] = Field(
        default="append",
        description="append adds rows; overwrite replaces those that are there; upsert inserts rows with new keys and "
        "updates changed ones.",
    )
    keys: list[str] | Literal["primary"] = Field(
        default=[],
        description="The target's columns that identify rows: what upsert matches by, and what must not come twice. "
        "primary: those of the source table's primary key.",
        examples=[["booking_id"], "primary"],
    )
    rename: Rename = Field(
        default=Rename(),
        description="How names are made of the source's, where the job gives none: a case for tables and columns, or a mapping.",
        examples=["snake_case", {"columns": "snake_case", "prefix": "src_"}],
    )
    replaces: str | None = Field(
        default=None,
        min_length=1,
        description="With overwrite: only rows of the target for which this is true are replaced. A row that comes and for which "
        "it is not true is a reject.",
        examples=["season = :season"],
    )
    gone: Literal["keep", "delete"] | FlagGone = Field(
        default="keep",
        description="With upsert: what happens to rows of the target whose key the source has no more; a flag is set in a "
        "column of booleans, and taken back when the row is there again.",
        examples=["delete", {"flag": "is_gone"}],
    )
    gone_limit: RejectLimit = Field(
        default="10%",
        description="A load by which more rows of the target would be gone fails: a count, or a share of its rows.",
    )
    repeats: Literal["last", "first", "fail"] = Field(
        default="last", description="Which row wins when one key comes twice in one load, by the source's order."
    )
    if_missing: Literal["create", "fail"] = "create"
    if_different: Literal["fail", "ignore", "widen", "rebuild"] = Field(
        default="fail",
        description="When the table has other columns or types: fail; ignore what it has no column for; widen it by new "
        "columns and larger types; or, with overwrite, rebuild it.",
    )
    sort_by: list[str] = Field(
        default=[],
        max_length=400,
        description="Columns of a new warehouse table by whose values its rows are kept in order, so that questions read less.",
        examples=[["night"]],
    )
    distribute_by: str | None = Field(
        default=None,
        min_length=1,
        description="How the rows of a new warehouse table are divided among its machines: by the value of a column, or `all` (each has all "
        "rows), or `even`.",
        examples=["hut_code", "all"],
    )
    encode: dict[str, Annotated[str, Field(pattern=r"^[a-z][a-z0-9]{1,30}$")]] = Field(
        default={},
        max_length=1600,
        description="How columns of a new warehouse table are compressed: the warehouse's own word for each. Left out: as it decides.",
        examples=[{"hut_code": "bytedict", "remarks": "zstd"}],
    )
    partition_by: list[str] = Field(
        default=[],
        description="Columns of a new lake table whose values divide its files, so that readers and loads leave out what they need not.",
        examples=[["hut_code"]],
    )
    carry: list[Literal["keys", "required", "defaults", "comments"]] = Field(
        default=[],
        description="What a new table takes over from the source's table: its primary key, NOT NULL, constant defaults, "
        "comments.",
    )
    rejects: RejectLimit = Field(
        default=0, description='How many bad rows are tolerated: a count, or a share such as "0.5%".'
    )
    only_if_empty: bool = Field(default=False, description="Write only when the table holds no rows.")
    samples: int = Field(
        default=50,
        ge=0,
        le=1000,
        description="Of how many changed rows, and rows dropped as repeats, the run keeps before and after; 0 keeps none.",
    )
    keep_previous: int = Field(
        default=0,
        ge=0,
        le=1,
        description="How many earlier contents of an overwritten table are kept next to it, for an undo: 0 or 1.",
    )
    old_rows: Literal["delete", "truncate"] = Field(
        default="delete",
        description="How an overwrite takes the old rows away. truncate is quicker and leaves no dead rows; readers wait for "
        "the whole load (PostgreSQL).",
    )
    checksums: bool = Field(
        default=False,
        description="Whether the loaded rows are read again, and each column's checksum compared with that of the rows sent.",
    )
    lock_wait: Duration = Field(
        default="60 s", description="How long a load waits for a lock that another session holds on the target."
    )
    count: Literal["about", "exact"] = Field(
        default="about",
        description="How rows of the target are counted before and after: of more than 10,000 only about, from the database's statistics, "
        "at no cost; or exactly, however long that takes.",
    )
    lock_table: bool = Field(
        default=False,
        description="Whether others can write to the table only when the load is done; readers never wait.",
    )
    before: list[str] = Field(
        default=[],
        description="SQL in the target before rows are written, in the load's transaction where it allows that.",
    )
    after: list[str] = Field(
        default=[], description="SQL in the target after rows are written, before they are seen."
    )

    @property
    def removes_old(self) -> bool:
        """Whether rows, or files, that are there make place for those that come."""
        return self.mode == "overwrite"

    @property
    def matches_rows(self) -> bool:
        """Whether rows that come are matched with those that are there, by their keys."""
        return self.mode == "upsert"

    @model_validator(mode="after")
    def _modes(self) -> Target:
        named = [key for key in ("table", "files", "folder") if getattr(self, key) is not None]
        if len(named) != 1:
            shown = "none is there" if not named else f"{' and '.join(named)} are there"
            raise ValueError(f"into names one of table, files and folder; {shown}")
        if self.table is None:
            self._file_rules()
        elif self.layout is not None or self.split != Split():
            raise ValueError("into.layout and into.split are for files; a table has none")
        if self.matches_rows and not self.keys:
            raise ValueError("into.mode: upsert matches rows by into.keys; name at least one column there")
        if self.if_different == "rebuild" and not self.removes_old:
            raise ValueError("into.if_different: rebuild goes with mode: overwrite only: the old rows would be lost")
        if self.keep_previous and not self.removes_old:
            raise ValueError("into.keep_previous goes with mode: overwrite only: nothing else replaces rows")
        if self.old_rows == "truncate" and not self.removes_old:
            raise ValueError("into.old_rows goes with mode: overwrite only: nothing else takes rows away")
        if self.replaces is not None and (not self.removes_old or self.table is None):
            raise ValueError(
                "into.replaces goes with mode: overwrite of a table: it says which of its rows are replaced"
            )
        if self.replaces is not None and (
            self.keep_previous or self.old_rows == "truncate" or self.if_different == "rebuild"
        ):
            raise ValueError(
                "into.replaces takes a part of the rows away: keep_previous, truncate and rebuild are for all of them"
            )
        if self.gone != "keep" and not self.matches_rows:
            raise ValueError("into.gone goes with mode: upsert: it compares keys")
        if self.keys != "primary" and len(set(self.keys)) < len(self.keys):
            raise ValueError("into.keys names a column twice")
        return self

    def _file_rules(self) -> None:
        if self.matches_rows or self.keys:
            raise ValueError("files have no keys: into.mode is append or overwrite, without into.keys")
        if (
            self.if_different in ("widen", "rebuild")
            or self.carry
            or self.before
            or self.after
            or self.keep_previous
            or self.lock_table
            or self.count == "exact"
            or self.partition_by
            or self.sort_by
            or self.distribute_by
            or self.encode
            or self.old_rows == "truncate"
        ):
            raise ValueError(
                "if_different, carry, before, after, keep_previous, old_rows, lock_table, count, partition_by, sort_by, "
                "distribute_by and encode are for tables; files are always "
                "written anew"
            )
        if self.files is not None:
            layout = written_layout(self.files, self.layout)
            filled = isinstance(layout, WrittenXlsx) and (layout.template or layout.start != "A1")
            if (filled or split_sheet(self.files)) and (self.split.rows or self.split.size):
                raise ValueError(
                    "into.split divides rows into files; a sheet of a workbook that is filled has all of them"
                )
        elif self.layout is not None or self.split != Split():
            raise ValueError("files that are copied as they are have no into.layout and into.split")

    @property
    def key_names(self) -> Sequence[str]:
        """The keys that are named; none while they are those of the source, which is not open yet."""
        return () if self.keys == "primary" else self.keys

    @property
    def object_name(self) -> str:
        """What rows go into, as it is shown."""
        return self.table or self.files or self.folder or ""

    @property
    def label(self) -> str:
        return f"{self.connection}:{self.object_name}"

    @property
    def place(self) -> str:
        """Which key names the object: its place in the job file."""
        return next(f"into.{key}" for key in ("table", "files", "folder") if getattr(self, key) is not None)
