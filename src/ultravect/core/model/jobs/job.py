"""The job file: what to copy, from where, how shaped, into what (format version 1)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, ValidationError, model_validator

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import Declared, Duration, ParameterName, Slug
from ultravect.core.model.jobs.guard import Guard
from ultravect.core.model.jobs.into import Target
from ultravect.core.model.jobs.newer import names_log
from ultravect.core.model.jobs.schedule import ClockTime, Retry, Schedule, first_of_day
from ultravect.core.model.jobs.source import JobSource
from ultravect.core.model.problems import did_you_mean
from ultravect.core.patterns import has_pattern

# what names an object in a job with many, and what only such a job has
_MANY = ("table", "tables", "files", "sheets", "except", "allow_none", "feed")
# what a run fills in, in the names of source and target
MARK = "mark"
"""The placeholder of from.files by which a server is asked only for what is new."""
_FILLED = ("run_id", "run_date", "schema", "table", "file_stem", "folder", "sheet", "part")
_PLACEHOLDER = re.compile(r"\{\{|\}\}|\{([A-Za-z_][A-Za-z0-9_]*)\}")


def placeholders(text: str) -> list[str]:
    """The names that stand in braces, each once; a doubled brace is a brace."""
    return list(dict.fromkeys(found[1] for found in _PLACEHOLDER.finditer(text) if found[1]))


def _listed(value: Any) -> Any:
    return [value] if isinstance(value, dict | Schedule) else value


class RunOptions(Declared):
    """How the job is run."""

    timeout: Duration | None = Field(default=None, description="A leg that takes longer is stopped and fails.")
    schedule: Annotated[list[Schedule], BeforeValidator(_listed), Field(max_length=20)] = Field(
        default=[], description="Times at which the job is run by itself: one, or a list."
    )
    after: list[Slug] = Field(
        default=[],
        max_length=50,
        description="Jobs: once all of them have succeeded for the same scheduled time, this one is run for it.",
        examples=[["bookings", "guests"]],
    )
    due: ClockTime | None = Field(
        default=None,
        description="The time of day, in the zone of the first schedule, by which the job has succeeded for that day; else it is late.",
    )
    retry: Retry | None = Field(
        default=None,
        description="Whether a leg is tried again that failed by something that passes; left out: it is not.",
    )
    priority: int = Field(
        default=0, ge=-10, le=10, description="Of runs that wait for a worker, those of a higher priority come first."
    )
    at_once: int = Field(default=4, ge=1, le=64, description="How many legs of the run are copied at the same time.")
    slices: Literal["auto"] | Annotated[int, Field(ge=1, le=64)] = Field(
        default="auto",
        description="Into how many slices a leg is cut, which several workers copy at the same time. auto: as many as it has use "
        "for, where that is quicker; 1: none.",
    )
    publish: Literal["each", "together"] = Field(
        default="each",
        description="Of a job with many objects: each leg is published on its own, or all of them by one transaction, where the target "
        "allows it; then the legs are copied one after the other.",
    )
    follow: Duration | None = Field(
        default=None,
        description="Of a job with from.newer: log: how often changes are written into the target. Left out: every 5 s.",
        examples=["5 s"],
    )
    on_error: Literal["finish", "stop"] = Field(
        default="finish",
        description="When a leg fails: finish the others, or begin no more of them. Each leg is published on its own.",
    )

    @model_validator(mode="after")
    def _due_after_schedule(self) -> RunOptions:
        if self.due is None:
            return self
        if not self.schedule:
            raise ValueError("run.due goes with run.schedule: it says by when the scheduled run has succeeded")
        if (first := first_of_day(self.schedule[0])) is not None and first >= self.due:
            raise ValueError(
                f"run.due is {self.due}, and the schedule comes at {first}: no run could have succeeded by then"
            )
        return self


class ObjectOptions(Declared):
    """What one object of a job with many needs differently; the same keys as the job's, which replace those."""

    source: dict[str, Any] = Field(alias="from", default={}, description="Keys of from, such as where.")
    columns: list[str] | None = Field(default=None, min_length=1, description="A select list.")
    into: dict[str, Any] = Field(default={}, description="Keys of into, such as mode and keys.")


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
    source: JobSource = Field(alias="from")
    columns: list[str] = Field(
        default=["*"],
        min_length=1,
        description="A select list: names and expressions, with `as` for a new name and a type after it.",
    )
    into: Target
    objects: dict[str, ObjectOptions] = Field(
        default={},
        max_length=5_000,
        description="What single objects need differently, by their names, in a job with many.",
    )
    require: list[str] = Field(
        default=[],
        max_length=100,
        description="Expressions over the columns that are written; a row of which one is not true is rejected.",
        examples=[["nights between 1 and 60"]],
    )
    guard: Guard | None = Field(default=None, description="What has to be true of a load before it is published.")
    run: RunOptions = RunOptions()

    @model_validator(mode="before")
    @classmethod
    def _mirror(cls, given: Any) -> Any:
        """A mirror that follows a log deletes what its source deletes, unless it says otherwise."""
        if not isinstance(given, dict):
            return given
        source, into = given.get("from"), given.get("into")
        if not isinstance(source, dict) or not isinstance(into, dict):
            return given
        if not names_log(source.get("newer")) or into.get("mode") != "upsert" or "gone" in into:
            return given
        return {**given, "into": {**into, "gone": "delete"}}

    @model_validator(mode="after")
    def _as_they_are(self) -> Job:
        if self.into.folder is None:
            return self
        if self.source.files is None:
            raise ValueError("into.folder takes files as they are: name from.files, not a table or query")
        if self.require or self.guard is not None:
            raise ValueError("into.folder takes files as they are: require and guard are for rows")
        if self.columns != ["*"] or self.source.where or self.source.layout is not None:
            raise ValueError(
                "into.folder takes files as they are: columns, from.where and from.layout go with into.table or into.files"
            )
        return self

    @model_validator(mode="after")
    def _arrivals(self) -> Job:
        newer = self.source.newer
        if not any(times.only_if for times in self.run.schedule):
            return self
        if self.source.feed is None and (newer is None or newer.files is None):
            raise ValueError(
                "run.schedule: only_if: new_files goes with from.newer: files or from.feed, which know what was copied"
            )
        return self

    @model_validator(mode="after")
    def _only_new(self) -> Job:
        newer, into = self.source.newer, self.into
        whole = (newer is None or newer.changed_rows) and self.source.feed is None
        if self.source.feed is not None and self.run.publish == "together":
            raise ValueError(
                "run.publish: together is of legs with tables of their own; those of a feed write into one"
            )
        if self.source.feed is not None and (into.removes_old or into.folder is not None):
            raise ValueError(
                "from.feed copies files that are new: into.mode is append or upsert, into a table or files"
            )
        follows = newer is not None and newer.log
        if self.run.follow is not None and not follows:
            raise ValueError("run.follow goes with from.newer: log, of which it says how often changes are written")
        if follows:
            return self._as_stream()
        if self.guard is not None and self.guard.of_stream:
            raise ValueError("guard.lag and guard.log_kept go with from.newer: log")
        if into.gone != "keep" and not (whole and self.source.where is None):
            raise ValueError("into.gone needs all rows of the source: leave out from.newer and from.where")
        if newer is None:
            return self
        if newer.changed_rows and not into.matches_rows:
            raise ValueError(
                "from.newer: changed_rows goes with into.mode: upsert, which compares rows by their keys"
            )
        if newer.has_mark and into.removes_old:
            raise ValueError(
                "from.newer goes with append or upsert: an overwrite would replace what was copied before"
            )
        if newer.overlap is not None and not into.keys:
            raise ValueError("from.newer: overlap reads rows again, which are known by into.keys: name them")
        if into.folder is not None:
            raise ValueError(
                "into.folder copies only files that differ from those that are there: leave out from.newer"
            )
        return self

    def _as_stream(self) -> Job:
        """What a job that follows the log of its source has not."""
        into, run = self.into, self.run
        if into.removes_old or into.folder is not None:
            raise ValueError("from.newer: log goes with append, a history, or upsert, a mirror; into a table")
        if into.keys and not into.matches_rows:
            raise ValueError("from.newer: log with append keeps every change of a row: leave out into.keys")
        if into.files is not None:
            raise ValueError("from.newer: log goes into tables, not into files")
        if run.schedule or run.after:
            raise ValueError("from.newer: log is followed all the time: leave out run.schedule and run.after")
        if run.publish == "together":
            raise ValueError(
                "from.newer: log publishes the changes of all tables together anyway: leave out run.publish"
            )
        if into.before or into.after or (self.guard is not None and self.guard.of_rows):
            raise ValueError(
                "from.newer: log writes all the time: into.before, into.after and guards of rows go with runs; guard.lag and guard.log_kept are "
                "for streams"
            )
        return self

    @model_validator(mode="after")
    def _many(self) -> Job:
        names = self.captures
        used = set(placeholders(self.into.object_name))
        for name in names:
            if name not in used:
                near = did_you_mean(name, [*self.parameters, "run_date", "run_id"])
                raise ValueError(
                    f"from.files has {{{name}}}, which is no parameter of the job, and {self.into.place} does not have it: "
                    + (near or "a part of the path that stands for an object names the target")
                )
        if self.into.keys == "primary" and self.source.table is None and self.source.tables is None:
            raise ValueError("into.keys: primary takes the keys of a source table: name from.table or from.tables")
        if self.objects and not self.has_many:
            raise ValueError(
                "objects goes with many: from.tables, from.sheets, or from.files with a {name} by which the target is named"
            )
        if not self.has_many or self.source.feed is not None:
            return self
        if self.into.folder is not None:
            raise ValueError("into.folder takes all files as they are: name into.table or into.files")
        wanted = "table" if self.source.tables is not None else "sheet" if self.source.sheets is not None else ""
        if wanted and not used & {wanted, *names, "file_stem", "folder"}:
            raise ValueError(
                f"every object of from.{wanted}s would go into the same {self.into.place}: name it by {{{wanted}}}"
            )
        # options that several objects share are looked at once
        for name in {repr(own): name for name, own in reversed(self.objects.items())}.values():
            self._of(name, {"table": name} if self.source.tables else {"files": name}, self.into.object_name, {})
        return self

    @property
    def follows_log(self) -> bool:
        """Whether the job is a stream: it copies what the log of its source says."""
        return self.source.newer is not None and self.source.newer.log

    @property
    def captures(self) -> list[str]:
        """The placeholders of from.files that stand for a part of the path, by which the target is named."""
        known = {*self.parameters, *_FILLED, MARK}
        return [name for name in placeholders(self.source.files or "") if name not in known]

    @property
    def has_many(self) -> bool:
        """Whether a run of this job may have many legs, one for each object or group of like files."""
        source = self.source
        if source.tables is not None or source.sheets is not None or source.feed is not None or self.captures:
            return True
        by_file = {"file_stem", "folder"}.intersection(placeholders(self.into.table or self.into.files or ""))
        return bool(by_file) and source.files is not None and has_pattern(source.files)

    def for_object(self, name: str, named: Mapping[str, Any], target: str, captured: Mapping[str, str]) -> Job:
        """The job of one leg: of the object ``name``, which ``named`` names as from does, into ``target``.

        ``captured`` are parts of the path, which expressions have as parameters. UltravectError where the object's own options are wrong.
        """
        try:
            return self._of(name, named, target, captured)
        except ValueError as error:
            raise UltravectError("object-options-invalid", str(error), place=f"objects.{name}") from None

    def _of(self, name: str, named: Mapping[str, Any], target: str, captured: Mapping[str, str]) -> Job:
        own = self.objects.get(name) or ObjectOptions()
        data = self._as_one()
        kept = {key: value for key, value in data["from"].items() if key not in _MANY}
        data = {**data, "from": {**kept, **named, **own.source}}
        data["into"] = {**data["into"], self.into.place.removeprefix("into."): target, **own.into}
        if own.columns is not None:
            data["columns"] = own.columns
        if captured:
            data["parameters"] = {**captured, **data.get("parameters", {})}
        try:
            return Job.model_validate(data)
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            place = ".".join(str(part) for part in first["loc"])
            what = first["msg"].removeprefix("Value error, ")
            raise ValueError(f"objects.{name}: {f'{place}: ' if place else ''}{what}") from None

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

    def _as_one(self) -> dict[str, Any]:
        """The structure of the job file without the options of single objects."""
        data = self.as_file()
        data.pop("objects", None)
        return data

    def as_file(self) -> dict[str, Any]:
        """The structure of the job file, without what equals the defaults."""
        data = self.model_dump(by_alias=True, exclude_defaults=True, mode="json")
        if self.follows_log and self.into.matches_rows and self.into.gone == "keep":
            data["into"]["gone"] = "keep"  # it is no default there
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
