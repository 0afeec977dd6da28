"""The job file: what to copy, from where, how shaped, into what (format version 1)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import Field, model_validator

from ultravect.core.model.base import Declared, Duration, ParameterName, RejectLimit, Slug
from ultravect.core.model.layout import LayoutOrName
from ultravect.core.model.written import Split, WrittenLayout, written_layout


class Source(Declared):
    """Where rows come from."""

    connection: Slug
    table: str | None = Field(
        default=None,
        min_length=1,
        description="A table or view, with its schema in front if need be.",
        examples=["booking", "ledger.booking"],
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
        description="Path of a file inside the connection, or a pattern of many: * stays in a folder, ** crosses folders.",
        examples=["bookings.csv", "slips/**/*.txt"],
    )
    where: str | None = Field(
        default=None,
        min_length=1,
        description="Only rows for which this is true are copied. Filtered in the source where that gives the same.",
        examples=["season = :season and status <> 'draft'"],
    )
    layout: LayoutOrName | None = Field(
        default=None,
        description="A mapping, or the name of a saved layout, such as weigh-slips or weigh-slips@2. Left out: found from the file, and shown.",
    )

    @model_validator(mode="after")
    def _one_object(self) -> Source:
        named = [key for key in ("table", "query", "files") if getattr(self, key) is not None]
        if len(named) != 1:
            shown = "none is there" if not named else f"{' and '.join(named)} are there"
            raise ValueError(f"from names one of table, query and files; {shown}")
        if self.layout is not None and self.files is None:
            raise ValueError("from.layout is for files; a table has none")
        return self

    @property
    def object_name(self) -> str:
        """What rows come from, as it is shown."""
        return self.table or self.files or "query"

    @property
    def label(self) -> str:
        return f"{self.connection}:{self.object_name}"

    @property
    def place(self) -> str:
        """Which key names the object: its place in the job file."""
        return next(f"from.{key}" for key in ("table", "query", "files") if getattr(self, key) is not None)


class Target(Declared):
    """Where rows go, and how they are written."""

    connection: Slug
    table: str | None = Field(
        default=None,
        min_length=1,
        description="Table, with its schema in front if need be.",
        examples=["ledger.booking"],
    )
    files: str | None = Field(
        default=None,
        min_length=1,
        description="Path of the file to be written; {run_date}, {run_id}, {table}, {file_stem}, {part} and parameters in "
        "it are filled in. The ending gives the format.",
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
    keys: list[str] = Field(
        default=[],
        description="The target's columns that identify rows: what upsert matches by, and what must not come twice.",
        examples=[["booking_id"]],
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
        if self.mode == "upsert" and not self.keys:
            raise ValueError("into.mode: upsert matches rows by into.keys; name at least one column there")
        if self.if_different == "rebuild" and self.mode != "overwrite":
            raise ValueError("into.if_different: rebuild goes with mode: overwrite only: the old rows would be lost")
        if self.keep_previous and self.mode != "overwrite":
            raise ValueError("into.keep_previous goes with mode: overwrite only: nothing else replaces rows")
        if self.old_rows == "truncate" and self.mode != "overwrite":
            raise ValueError("into.old_rows goes with mode: overwrite only: nothing else takes rows away")
        if len(set(self.keys)) < len(self.keys):
            raise ValueError("into.keys names a column twice")
        return self

    def _file_rules(self) -> None:
        if self.mode == "upsert" or self.keys:
            raise ValueError("files have no keys: into.mode is append or overwrite, without into.keys")
        if (
            self.if_different in ("widen", "rebuild")
            or self.carry
            or self.before
            or self.after
            or self.keep_previous
            or self.lock_table
            or self.old_rows == "truncate"
        ):
            raise ValueError(
                "if_different, carry, before, after, keep_previous, old_rows and lock_table are for tables; files are always "
                "written anew"
            )
        if self.files is not None:
            written_layout(self.files, self.layout)
        elif self.layout is not None or self.split != Split():
            raise ValueError("files that are copied as they are have no into.layout and into.split")

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


class RunOptions(Declared):
    """How the job is run."""

    timeout: Duration | None = Field(default=None, description="A leg that takes longer is stopped and fails.")


class Job(Declared):
    """A copy job."""

    ultravect: Literal[1] = Field(description="Version of the file format.")
    job: Slug
    about: str = ""
    labels: list[Slug] = []
    parameters: dict[ParameterName, bool | int | float | str] = Field(
        default={},
        description="Values that expressions name as :name, with what they are unless a run says otherwise.",
    )
    source: Source = Field(alias="from")
    columns: list[str] = Field(
        default=["*"],
        min_length=1,
        description="A select list: names and expressions, with `as` for a new name and a type after it.",
    )
    into: Target
    run: RunOptions = RunOptions()

    @model_validator(mode="after")
    def _as_they_are(self) -> Job:
        if self.into.folder is None:
            return self
        if self.source.files is None:
            raise ValueError("into.folder takes files as they are: name from.files, not a table or query")
        if self.columns != ["*"] or self.source.where or self.source.layout is not None:
            raise ValueError(
                "into.folder takes files as they are: columns, from.where and from.layout go with into.table or into.files"
            )
        return self

    def with_parameters(self, given: Mapping[str, Any]) -> Job:
        """The job with other values for its parameters; ValueError says what is wrong with one.

        A text is taken for what the parameter is, so that ``"2027"`` does for a number.
        """
        if not given:
            return self
        values = dict(self.parameters)
        for name, value in given.items():
            if name not in values:
                known = ", ".join(values) or "none"
                raise ValueError(f"job {self.job} has no parameter {name!r}; it has: {known}")
            values[name] = _like(name, value, values[name])
        return self.model_copy(update={"parameters": values})

    def as_file(self) -> dict[str, Any]:
        """The structure of the job file, without what equals the defaults."""
        data = self.model_dump(by_alias=True, exclude_defaults=True, mode="json")
        return {"ultravect": 1, **data}


_WORDS = {"true": True, "false": False}


def _like(name: str, value: Any, declared: Any) -> Any:
    kind = type(declared)
    try:
        if kind is str:
            return str(value)
        if kind is bool:
            return _WORDS[str(value).lower()]
        if isinstance(value, bool) or (kind is int and isinstance(value, float)):
            raise ValueError
        return kind(value)
    except (ValueError, TypeError, KeyError):
        words = {bool: "true or false", int: "a whole number", float: "a number"}
        raise ValueError(f"parameter {name!r} is {words[kind]}, as in the job; {value!r} is not") from None


def job_schema() -> dict[str, Any]:
    """JSON Schema of a job file, for editors."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Job.model_json_schema(by_alias=True)}
