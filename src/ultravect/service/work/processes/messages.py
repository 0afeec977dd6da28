"""What a process of a leg may say, as types with limits: what reads outside data, or runs on another organisation's machine, is
believed no more than that. Unknown kinds and unknown keys are refused."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from ultravect.core.engine.run.leg import PHASES

MAX_LINE = 32 << 20
"""The longest line of a process, in bytes: a plan, or rejected rows."""

_MOST = 10_000
_Short = Annotated[str, Field(max_length=500)]
_Text = Annotated[str, Field(max_length=100_000)]
_Count = Annotated[int, Field(ge=-(2**62), le=2**62)]
_Phase = Literal["", "read", "shape", "stage", "publish", "verify"]
_Outcome = Literal["", "nothing", "committed", "unknown"] | None
assert set(PHASES) < set(_Phase.__args__)  # type: ignore[attr-defined]


class Said(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class _Of(Said):
    leg: int | None = None
    """Which of the legs that the process copies together."""


class ErrorSaid(Said):
    code: Annotated[str, Field(max_length=100, pattern=r"^[a-z][a-z0-9-]*$")]
    detail: _Text
    hint: _Text = ""
    where: dict[_Short, Any] = Field(default={}, max_length=50)


class _Finding(_Of):
    severity: Literal["error", "warning", "note"]
    code: Annotated[str, Field(max_length=100, pattern=r"^[a-z][a-z0-9-]*$")]
    message: _Text
    place: _Text = ""
    fix: _Text = ""
    edit: dict[str, Any] | None = None


class _SaidFinding(_Finding):
    kind: Literal["finding"]


class _Ready(Said):
    kind: Literal["ready"]
    pid: int


class _Free(Said):
    """It has done its task, and would take another one."""

    kind: Literal["free"]


class _PhaseSaid(_Of):
    kind: Literal["phase"]
    name: _Phase
    state: Literal["running", "done"]


class _Progress(_Of):
    kind: Literal["progress"]
    bytes_total: _Count | None = None
    bytes_read: _Count = 0
    rows_read: _Count = 0
    rows_staged: _Count = 0
    rows_scanned: _Count = 0
    bytes_scanned: _Count = 0
    rows_per_second: _Count = 0
    said: float = 0.0


class _Log(_Of):
    kind: Literal["log"]
    level: Literal["debug", "info", "note", "warning", "error"]
    text: _Text


class _Planned(_Of):
    kind: Literal["planned"]
    plan: dict[str, Any]


class RejectSaid(Said):
    object: Annotated[str, Field(max_length=4_000)]
    row: _Count
    line: _Count | None
    column: Annotated[str, Field(max_length=4_000)]
    value: str | None
    reason: str
    record: str
    key: str = ""


class _Rejects(_Of):
    kind: Literal["rejects"]
    rejects: list[RejectSaid] = Field(max_length=_MOST)


class _Change(Said):
    kind: Literal["updated", "added", "gone", "repeated"]
    columns: list[str]
    before: list[str | None] | None
    after: list[str | None] | None


class _Changes(_Of):
    kind: Literal["changes"]
    changes: list[_Change] = Field(max_length=_MOST)


class _ReadAgain(_Of):
    kind: Literal["read_again"]


class _Statement(Said):
    text: _Text
    count: _Count
    seconds: float
    rows: _Count


class _Statements(_Of):
    kind: Literal["statements"]
    statements: list[_Statement] = Field(max_length=100)


class _Published(_Of):
    kind: Literal["published"]
    table: _Text
    mode: _Short
    tally: dict[_Short, _Count] = Field(max_length=50)
    rows_before: _Count | None = None
    rows_after: _Count | None = None
    created: bool = False
    previous: _Text = ""
    files: dict[str, _Count] = {}
    first_reject: RejectSaid | None = None
    marks: list[dict[str, Any]] = []


class _Slices(_Of):
    kind: Literal["slices"]
    order: dict[str, Any]
    labels: list[_Text] = Field(max_length=_MOST)
    cluster: bool = False


class _SliceSaid(_Of):
    """What becomes of a slice on a cluster."""

    kind: Literal["slice"]
    number: int
    state: Literal["running", "succeeded", "failed"] | None = None
    worker: Annotated[str, Field(max_length=100)] | None = None
    progress: dict[_Short, _Count] | None = Field(default=None, max_length=50)
    error: ErrorSaid | None = None


class SliceAccount(Said):
    number: int
    read: _Count
    filtered: _Count
    rejected: _Count
    staged: _Count
    files: dict[str, _Count] = {}
    first_reject: RejectSaid | None = None


class _Account(Said):
    """What a leg that succeeded reports: see ``LegResult``."""

    peak_memory: _Count | None = None
    tally: dict[_Short, _Count] = Field(max_length=50)
    rows_before: _Count | None = None
    rows_after: _Count | None = None
    created: bool = False
    seconds: float = 0.0
    phases: dict[_Short, float] = Field(default={}, max_length=50)
    comparison: dict[_Short, _Count] | None = None
    checksums: dict[str, str] | None = None
    strategy: Annotated[str, Field(max_length=40)] = ""
    files: dict[str, _Count] = {}
    gone: _Count = 0
    mark: dict[str, Any] | None = None
    guards: list[dict[str, Any]] = Field(default=[], max_length=1_000)
    rows_about: bool = False
    unverified: bool = False
    nothing: _Text = ""


class _Succeeded(_Account):
    kind: Literal["succeeded"]
    tally: dict[_Short, _Count] | None = Field(default=None, max_length=50)  # type: ignore[assignment]
    slice: SliceAccount | None = None
    legs: dict[Annotated[str, Field(pattern=r"^[0-9]{1,9}$")], _Account] | None = None


class _Failed(_Of):
    kind: Literal["failed"]
    error: ErrorSaid
    outcome: _Outcome = None
    phase: _Phase | None = None
    peak_memory: _Count | None = None
    paused: _Text | None = None
    """The change of a table at which a stream has paused."""


class _Stopped(_Of):
    kind: Literal["stopped"]
    peak_memory: _Count | None = None


class _StreamTable(Said):
    kind: Literal["stream_table"]
    name: _Short
    state: Literal["waiting", "snapshot", "following"]
    rows: _Count


class _Following(Said):
    kind: Literal["following"]
    position: _Short


class _WindowCounts(Said):
    changes: _Count
    inserted: _Count
    updated: _Count
    unchanged: _Count
    deleted: _Count
    rejected: _Count


class _Window(Said):
    kind: Literal["window"]
    position: _Short
    lag: float
    seconds: float
    tables: dict[_Short, _WindowCounts] = Field(max_length=_MOST)


class _Idle(Said):
    kind: Literal["idle"]
    position: _Short
    lag: float


class _Kept(Said):
    kind: Literal["kept"]
    bytes: _Count


class _StreamRejects(Said):
    kind: Literal["stream_rejects"]
    name: _Short
    rejects: list[RejectSaid] = Field(max_length=_MOST)


class _Asked(_Of):
    kind: Literal["asked"]
    result: _Account | None


class _File(Said):
    path: _Text
    size: _Count
    modified: Annotated[str, Field(max_length=60)]
    state: Literal["known", "new", "unmatched", "disputed"]
    provider: _Short = ""
    version: int = 0
    reason: _Text = ""


class _LaidOut(_Of):
    """What was found for a job with many objects. ``facts``: see ``legs_of_facts``."""

    kind: Literal["laid_out"]
    facts: list[dict[str, Any]] = Field(max_length=_MOST)
    findings: list[_Finding] = Field(max_length=_MOST)
    files: list[_File] = Field(max_length=100_000)


_ANY: TypeAdapter[Said] = TypeAdapter(
    Annotated[
        _Ready
        | _Free
        | _PhaseSaid
        | _Progress
        | _Log
        | _SaidFinding
        | _Planned
        | _Rejects
        | _Changes
        | _ReadAgain
        | _Statements
        | _Published
        | _Slices
        | _SliceSaid
        | _Succeeded
        | _Failed
        | _Stopped
        | _StreamTable
        | _Following
        | _Window
        | _Idle
        | _Kept
        | _StreamRejects
        | _Asked
        | _LaidOut,
        Field(discriminator="kind"),
    ]
)


class NotAMessage(ValueError):
    """A line that no process of ours says."""


def read_message(line: bytes | str) -> dict[str, Any]:
    """A line of a process as data of known form: keys that it left out are left out. NotAMessage for any other."""
    if len(line) > MAX_LINE:
        raise NotAMessage(f"a line of {len(line):,} bytes")
    try:
        found = _ANY.validate_json(line).model_dump(mode="json", exclude_unset=True)
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        raise NotAMessage(f"{'.'.join(str(part) for part in first['loc'])}: {first['msg']}"[:300]) from None
    return found
