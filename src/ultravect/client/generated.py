"""What the service answers with: written by `./dev api` from the OpenAPI document. Do not edit."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import ConfigDict, Field

from ultravect.client.base import Given


class Account(Given):
    name: str
    role: str
    active: bool
    last_login: datetime | None = Field(...)


class Answer(Given):
    columns: list[str]
    types: list[str]
    """
    Canonical types of the columns, "" where the database does not say.
    """
    rows: list[list[Any]]
    more: bool
    """
    Whether there are rows beyond the limit.
    """


class AuditEntry(Given):
    id: int
    at: datetime
    user: str
    address: str
    action: str
    kind: str
    name: str
    detail: dict[str, Any]


class Bin(Given):
    """
    A part of the range of a column's values.
    """

    low: str
    high: str
    count: int


class Cause(Given):
    """
    Failures of one cause, which no later run has made good.
    """

    code: str
    detail: str
    """
    What the newest of them said.
    """
    hint: str
    jobs: list[str]
    runs: list[int]
    """
    The newest first.
    """
    at: datetime | None = Field(...)
    """
    When the newest of them ended.
    """


class Change(Given):
    leg: int
    kind: str
    """
    updated: a row before and after. added, gone: rows that only the new or the old content of an overwritten table has. repeated: a row that was dropped, and the one of its key that won.

    * `updated` - updated
    * `added` - added
    * `gone` - gone
    * `repeated` - repeated
    """
    columns: list[str]
    before: list[str | None] | None = Field(...)
    after: list[str | None] | None = Field(...)


class ColumnStep(Given):
    """
    One column of a target, and the columns that its job makes it of.
    """

    job: str
    source: str
    """
    The id of the object that is read.
    """
    source_columns: list[str]
    target: str
    target_column: str
    expression: str
    """
    The item of the select list, "" where the column is copied as it is.
    """


class ColumnSteps(Given):
    steps: list[ColumnStep]
    """
    First what it comes from, then what is made of it, the nearest first.
    """


class ComparedValue(Given):
    source: str | None = Field(...)
    target: str | None = Field(...)


class Connection(Given):
    """
    Secrets are taken, and never given back; left out when changing, they stay as they are.
    """

    name: str
    kind: str
    settings: dict[str, Any]
    site: str | None = None
    """
    The network location whose workers reach it (`ultravect worker --site`); left out where all do.
    """
    at_most: int | None = None
    """
    How many legs may use it at once, in all runs together; left out or null: as many as workers have places.
    """
    secrets_set: list[str]
    holds: str
    """
    What it has: tables, or files.
    """
    created_at: datetime
    changed_at: datetime


class Difference(Given):
    part: str
    leg: str
    """
    The object of a leg; "" for the run, and where it has one leg.
    """
    name: str
    before: str
    after: str


class Draft(Given):
    file: str
    """
    A job file with comments.
    """


class Edit(Given):
    """
    The lines `old` of the job file, from number `line` on, become `new`; without `old`, `new` is put in before that line.
    """

    line: int
    """
    Counted from 1.
    """
    old: list[str]
    new: list[str]


class Feed(Given):
    name: str
    about: str
    connection: str
    revision: int
    saved_at: datetime
    expected: str
    """
    When files are expected; "" where it does not say.
    """
    providers: list[str]
    files: dict[str, int]
    """
    How many files its register has, by their state.
    """
    file: str
    """
    The feed file as it was saved.
    """
    structure: dict[str, Any]
    """
    The same as JSON.
    """


class FeedDay(Given):
    day: str
    files: dict[str, int]
    """
    How many, by their state.
    """
    missing: bool
    """
    Whether a file was expected by now, and none came.
    """


class FeedFile(Given):
    """
    A file of a feed, as the register has it.
    """

    path: str
    size: int | None = None
    modified_at: datetime | None = None
    found_at: datetime
    provider: str
    """
    "" where it is no provider's.
    """
    version: int | None = None
    state: str
    """
    found: matched, and not loaded yet; unmatched: it fits no version; disputed: patterns of two providers match.

    * `found` - Found
    * `loaded` - Loaded
    * `failed` - Failed
    * `unmatched` - Unmatched
    * `disputed` - Disputed
    """
    reason: str
    """
    Why it was not loaded.
    """
    run: int | None = Field(...)
    """
    The run that loaded it, or tried to.
    """
    leg: int | None = None
    rows: int | None = None
    rejected: int | None = None


class FeedProviderDays(Given):
    name: str
    """
    "" for files of no provider.
    """
    days: list[FeedDay]


class Finding(Given):
    severity: str
    code: str
    message: str
    place: str
    """
    The key in the job file, empty when it is about the data.
    """
    fix: str
    edit: Edit | None = None
    """
    The fix in the job file's own lines.
    """


class Fit(Given):
    fits: bool
    findings: list[Finding]


class FollowUp(Given):
    id: int
    kind: str
    state: str


class Guard(Given):
    """
    A guard of the job, and what was found.
    """

    name: str
    """
    What it is about.
    """
    value: str
    limit: str
    """
    What it may be.
    """
    passed: bool | None = Field(...)
    """
    null: it could not be decided.
    """


class HistoryRun(Given):
    run: int
    state: str
    at: datetime | None = Field(...)
    rows: int
    """
    Inserted and updated.
    """
    seconds: float | None = Field(...)
    guards: list[Guard]
    """
    What was found, of all legs one after the other.
    """


class Late(Given):
    job: str
    due: str
    timezone: str
    since: datetime


class Layout(Given):
    name: str
    about: str
    format: str
    version: int
    saved_at: datetime
    file: str
    """
    The layout file as it was saved.
    """
    structure: dict[str, Any]
    """
    The same as JSON.
    """


class MapJob(Given):
    name: str
    reads: list[str]
    """
    Ids of objects.
    """
    writes: list[str]
    after: list[str]
    """
    Jobs for which it waits, by run.after.
    """
    state: str
    """
    Of its last run or of its stream; "" where it was never run.
    """
    run: int | None = Field(...)
    """
    Its last run.
    """
    at: datetime | None = Field(...)
    """
    When that ended, or since when the stream is so.
    """
    is_stream: bool


class MapObject(Given):
    id: str
    """
    connection:name
    """
    connection: str
    name: str
    is_query: bool


class Mark(Given):
    """
    How far a job has copied one object, as its target keeps it.
    """

    object: str
    target: str
    column: str
    """
    The column that the mark is kept by; "" where files are noted.
    """
    value: str
    """
    The highest value that was copied; "" where there is no mark yet.
    """
    files: int
    """
    How many files were copied.
    """
    names: list[str]
    """
    Some of the files, sorted.
    """


class MarkOfLeg(Given):
    """
    Where a leg began and ended, of a job that copies what is new.
    """

    object: str
    summary: str
    """
    Where it began, for a reader.
    """
    column: str | None = None
    before: str | None = None
    """
    The mark of the column as it was; null for none.
    """
    after: str | None = None
    """
    As the load has left it.
    """
    files: int | None = None
    """
    How many files it has noted.
    """


class Message(Given):
    id: int
    rule: str
    occasion: str
    subject: str
    items: Any
    created_at: datetime
    send_at: datetime
    sent_at: datetime | None = Field(...)
    attempts: int
    error: str


class NotifyRule(Given):
    """
    Who is sent a message of what.
    """

    name: str
    occasions: list[str]
    """
    failed; recovered: succeeded after it had failed; rejects: succeeded, and rejected rows; late: not succeeded by run.due; guard: a guard that only warns was not met; changed: a load has changed its target; missing: no file where one was expected; unmatched: files of a feed that fit no provider.
    """
    jobs: list[str] | None = None
    """
    Of these jobs.
    """
    labels: list[str] | None = None
    """
    Of jobs with one of these labels. Without jobs and labels: of all.
    """
    mail: list[str] | None = Field(None, max_length=50)
    """
    Addresses.
    """
    webhook: str = ""
    """
    An address that is sent JSON by POST.
    """
    signed: bool
    """
    Whether there is such a key.
    """
    quiet_from: str = ""
    """
    Hours in which nothing is sent begin, such as 22:00.
    """
    quiet_to: str = ""
    """
    They end, and what came up is sent.
    """
    quiet_zone: str = "UTC"
    remind_hours: int = 0
    """
    After how many hours failed and late are said again; 0: never.
    """


class Objects(Given):
    items: list[dict[str, Any]]
    more: bool
    next: str | None = Field(...)
    """
    Send it as `after` for the next page.
    """


class Paused(Given):
    at: datetime
    by: str
    why: str


class Preview(Given):
    """
    The first rows of an object; what only a file has is left out for others.
    """

    object: str
    kind: str
    """
    file, query, or what the database calls it
    """
    size: int | None = None
    """
    Of a file, in bytes.
    """
    layout: dict[str, Any] | None = None
    """
    The layout of a file, complete.
    """
    columns: list[dict[str, Any]]
    rows: list[list[Any]]
    row_numbers: list[int] | None = None
    rows_scanned: int | None = None
    complete: bool | None = None
    """
    Whether the whole file was looked at.
    """
    bad_rows: list[dict[str, Any]] | None = None
    bad_count: int | None = None
    row_estimate: int | None = None
    comment: str | None = None
    findings: list[Finding]


class ProbeStep(Given):
    step: str
    """
    resolve, reach, sign in, list, read or write
    """
    state: str
    detail: str
    """
    What was found, or why it failed.
    """
    seconds: float


class Problem(Given):
    """
    What went wrong (RFC 9457).
    """

    model_config = ConfigDict(
        extra="allow",
    )
    __pydantic_extra__: dict[str, Any]
    type: str
    title: str
    status: int
    code: str
    """
    Stable, and explained in the documentation of messages.
    """
    detail: str
    hint: str | None = None
    """
    What to do.
    """
    where: dict[str, Any] | None = None
    errors: list[dict[str, Any]] | None = None


class RawBytes(Given):
    object: str
    size: int
    read: int
    """
    How many bytes of the content were read.
    """
    complete: bool
    encoding: str
    reason: str
    """
    Why this encoding was detected.
    """
    text: str
    base64: str
    """
    The first 4,096 bytes.
    """


class RehearsalStep(Given):
    step: str
    rows_in: int
    rows_out: int
    rejected: int


class RehearsedRow(Given):
    row: int
    before: list[str | None]
    after: list[str | None]


class Reject(Given):
    leg: int
    object: str
    row: int
    line: int | None = Field(...)
    column: str
    value: str | None = Field(...)
    reason: str
    record: str
    key: str


class Rejected(Given):
    job: str
    run: int
    rows: int


class Revision(Given):
    number: int
    saved_at: datetime
    saved_by: str | None = None
    file: str


class RunBar(Given):
    """
    A run on a time axis.
    """

    id: int
    job: str
    state: str
    trigger: str
    queued_at: datetime
    started_at: datetime | None = None
    ended_at: datetime | None = None


class RunEvent(Given):
    id: int | None = Field(...)
    """
    null of `progress`, which is in the stream alone: how far a leg is now.
    """
    kind: str
    at: datetime
    leg: int | None = Field(...)
    """
    The number of the leg that it is of.
    """
    data: dict[str, Any]


class RunLine(Given):
    """
    A run in a list, with the tally of its legs added up.
    """

    id: int
    job: str
    revision: int
    state: str
    outcome: str
    """
    What the run has left in its target, whatever its state: a run can fail after its rows are committed. unknown: the target has not answered yet, and is asked again.

    * `nothing` - Nothing
    * `committed` - Committed
    * `unknown` - Unknown
    """
    started_by: str | None = Field(...)
    queued_at: datetime
    started_at: datetime | None = Field(...)
    first_row_at: datetime | None = Field(...)
    ended_at: datetime | None = Field(...)
    stop_requested: bool
    error: dict[str, Any] | None = Field(...)
    kind: str
    """
    load: what the job says; rejects: rows that the run `origin` rejected; undo: takes its load back; repair: rows that a comparison has found to differ.

    * `load` - Load
    * `rejects` - Rejects
    * `undo` - Undo
    * `repair` - Repair
    """
    origin: int | None = Field(...)
    trigger: str
    """
    hand: someone, or a program; schedule: its time had come; after: jobs that it waits for had succeeded; fill: past times of its schedule.

    * `hand` - Hand
    * `schedule` - Schedule
    * `after` - After
    * `fill` - Fill
    """
    scheduled_for: datetime | None = Field(...)
    tally: dict[str, int] | None = Field(...)
    legs: dict[str, int]
    """
    How many legs it has, by their state.
    """


class RunSummary(Given):
    id: int
    job: str
    revision: int
    state: str
    outcome: str
    """
    What the run has left in its target, whatever its state: a run can fail after its rows are committed. unknown: the target has not answered yet, and is asked again.

    * `nothing` - Nothing
    * `committed` - Committed
    * `unknown` - Unknown
    """
    started_by: str | None = Field(...)
    queued_at: datetime
    started_at: datetime | None = Field(...)
    first_row_at: datetime | None = Field(...)
    ended_at: datetime | None = Field(...)
    stop_requested: bool
    error: dict[str, Any] | None = Field(...)
    kind: str
    """
    load: what the job says; rejects: rows that the run `origin` rejected; undo: takes its load back; repair: rows that a comparison has found to differ.

    * `load` - Load
    * `rejects` - Rejects
    * `undo` - Undo
    * `repair` - Repair
    """
    origin: int | None = Field(...)
    trigger: str
    """
    hand: someone, or a program; schedule: its time had come; after: jobs that it waits for had succeeded; fill: past times of its schedule.

    * `hand` - Hand
    * `schedule` - Schedule
    * `after` - After
    * `fill` - Fill
    """
    scheduled_for: datetime | None = Field(...)


class Schedule(Given):
    """
    A schedule of a job.
    """

    job: str
    place: int
    """
    Which of the job's schedules it is, from 0.
    """
    cron: str
    timezone: str
    only_if: str | None = Field(...)
    """
    new_files: a run is started only for files that were not copied yet.
    """
    missed: str
    overlap: str
    next: list[datetime]
    """
    The next five times; none while it is paused.
    """
    paused: Paused | None = Field(...)
    """
    Since when, by whom and why; null where it is not.
    """
    last_for: datetime | None = Field(...)
    """
    The last time for which a run was started, or was to be.
    """
    left_out: str
    """
    Why no run was started for it; "" where one was.
    """
    last_run: RunSummary | None = Field(...)
    """
    The last run of the job, however it was started.
    """


class Slice(Given):
    number: int
    label: str
    """
    Which rows it copies.
    """
    state: str
    worker: str
    attempts: int
    progress: dict[str, Any]
    started_at: datetime | None = Field(...)
    ended_at: datetime | None = Field(...)
    error: dict[str, Any] | None = Field(...)


class Statement(Given):
    """
    A statement that the leg ran in a database; values are left out of its text.
    """

    text: str
    count: int
    """
    How often it ran.
    """
    seconds: float
    """
    All together.
    """
    rows: int
    """
    Which it gave or changed, all together.
    """


class StreamEvent(Given):
    at: datetime
    level: str
    text: str


class StreamMinute(Given):
    """
    What a stream did in a minute.
    """

    minute: datetime
    changes: int
    inserted: int
    updated: int
    deleted: int
    rejected: int
    windows: int
    lag: float
    """
    The longest, in seconds.
    """


class StreamReject(Given):
    """
    A change that did not fit the target.
    """

    at: datetime
    object: str
    column: str | None = None
    value: str | None = None
    reason: str
    record: str
    key: str | None = None


class StreamTable(Given):
    """
    A table of a stream, and what came of its changes so far.
    """

    object: str
    state: str
    rows: int
    """
    Of its snapshot, so far.
    """
    changes: int
    """
    As the source made them; those of one row within a window are written once.
    """
    inserted: int
    updated: int
    unchanged: int
    deleted: int
    """
    Or flagged.
    """
    rejected: int


class Times(Given):
    next: list[datetime]
    """
    The next five times.
    """


class Token(Given):
    id: int
    label: str
    owner: str
    role: str
    """
    The most that it may do; empty: all that its owner may.
    """
    sites: list[str]
    """
    Of the workers that join with it; empty: it is for other programs.
    """
    jobs: list[str]
    """
    Whose runs it may start and see, and nothing else; empty: it is for more.
    """
    created_at: datetime
    used_at: datetime | None = Field(...)
    expires_at: datetime | None = Field(...)


class Translation(Given):
    source: str
    native: str
    canonical: str
    target: str
    becomes: str
    fit: str
    change: str


class TypeChoice(Given):
    type: str
    native: str
    fit: str
    change: str


class Upcoming(Given):
    job: str
    at: datetime
    timezone: str


class Upload(Given):
    """
    Where an uploaded file landed.
    """

    connection: str
    object: str
    size: int
    """
    In bytes.
    """
    replaced: bool
    """
    Whether a file of this name was there.
    """


class User(Given):
    name: str
    role: str


class ValueCount(Given):
    value: str
    count: int


class ValueCounts(Given):
    """
    What a column's values are.
    """

    values: int
    nulls: int
    distinct: int | None = Field(...)
    top: list[ValueCount]
    low: str | None = Field(...)
    high: str | None = Field(...)
    shortest: int | None = Field(...)
    longest: int | None = Field(...)
    bins: list[Bin] | None = Field(...)
    """
    How the first 10,000 values are spread over their range; null where that cannot be drawn.
    """


class Waiting(Given):
    """
    A job that was not run for a time, since others have not succeeded for it.
    """

    job: str
    scheduled_for: datetime
    waits_for: list[str]
    """
    Those that have not succeeded.
    """


class CheckedLeg(Given):
    """
    A leg of a job with many objects, as it was checked.
    """

    number: int
    object: str
    target: str
    target_exists: bool
    passed: bool
    fit: str
    """
    The worst fit of its columns: different, narrower, wider or exact; "" where there is none.
    """
    columns: int
    """
    How many.
    """
    rows_tried: int
    strategy: dict[str, Any] | None = Field(...)
    findings: list[Finding]


class ComparedRow(Given):
    where: str
    """
    Which side has the row.

    * `source` - source
    * `target` - target
    * `both` - both
    """
    keys: dict[str, str | None]
    values: dict[str, ComparedValue]
    """
    By column: of a row on both sides, those that differ.
    """


class Comparison(Given):
    equal: bool
    complete: bool
    """
    Whether the counts are of all rows that differ; else of the first that were found.
    """
    keys: list[str]
    columns: list[str]
    """
    What was compared, the keys among them.
    """
    rows_source: int
    rows_target: int
    rejected: int
    """
    Rows of the source that do not fit into the target.
    """
    only_source: int
    only_target: int
    different: int
    differences: list[ComparedRow]
    """
    At most 1,000 of them, by their keys.
    """
    findings: list[Finding]
    """
    What is not compared, or not exactly.
    """


class Differences(Given):
    """
    How a run differs from an earlier one.
    """

    before: RunSummary
    after: RunSummary
    file: list[str]
    """
    What became of the job file: lines that begin with - or +, with some around them.
    """
    items: list[Difference]
    """
    What is not the same; times are there in any case.
    """


class FeedDays(Given):
    days: list[str]
    providers: list[FeedProviderDays]


class History(Given):
    runs: list[HistoryRun]
    """
    The last 50 that have ended, the oldest first.
    """
    usual_rows: list[float] | None = Field(...)
    """
    Between which the middle half of the last ten good runs is.
    """
    usual_seconds: list[float] | None = Field(...)


class Job(Given):
    name: str
    about: str
    labels: list[str]
    source: str
    target: str
    revision: int
    saved_at: datetime
    last_run: RunLine | None = Field(...)
    stream: str | None = Field(...)
    """
    The state of its stream, of a job that follows a log: `not started` where it has none yet; null of other jobs.
    """
    file: str
    """
    The job file as it was saved.
    """
    structure: dict[str, Any]
    """
    The same as JSON.
    """
    is_stream: bool
    """
    Whether it follows the log of its source, and is not run.
    """
    has_stream: bool
    """
    Whether its stream was started.
    """


class JobComparison(Given):
    equal: bool
    complete: bool
    """
    Whether the counts are of all rows that differ; else of the first that were found.
    """
    keys: list[str]
    columns: list[str]
    """
    What was compared, the keys among them.
    """
    rows_source: int
    rows_target: int
    rejected: int
    """
    Rows of the source that do not fit into the target.
    """
    only_source: int
    only_target: int
    different: int
    differences: list[ComparedRow]
    """
    At most 1,000 of them, by their keys.
    """
    findings: list[Finding]
    """
    What is not compared, or not exactly.
    """
    run: int | None = Field(...)
    """
    The run that loads the rows that differ, where that was asked for.
    """


class JobSummary(Given):
    name: str
    about: str
    labels: list[str]
    source: str
    target: str
    revision: int
    saved_at: datetime
    last_run: RunLine | None = Field(...)
    stream: str | None = Field(...)
    """
    The state of its stream, of a job that follows a log: `not started` where it has none yet; null of other jobs.
    """


class Leg(Given):
    number: int
    object: str
    """
    The object that it copies, of a job with many; "" otherwise.
    """
    source: str
    target: str
    state: str
    outcome: str
    error: dict[str, Any] | None = Field(...)
    started_at: datetime | None = Field(...)
    ended_at: datetime | None = Field(...)
    attempts: int
    phases: list[dict[str, Any]]
    progress: dict[str, Any]
    pace: list[list[float]]
    """
    Seconds since the leg started, and the rows that it had read by then: some points of its time.
    """
    tally: dict[str, int] | None = Field(...)
    rows_before: int | None = Field(...)
    rows_after: int | None = Field(...)
    rows_about: bool
    created_target: bool
    rejected: int
    gone: int
    mark: MarkOfLeg | None = Field(...)
    comparison: dict[str, int] | None = Field(...)
    checksums: dict[str, str] | None = Field(...)
    guards: list[Guard] | None = Field(...)
    peak_memory: int | None = Field(...)
    strategy: str
    slices: list[Slice]
    statements: list[Statement]


class Map(Given):
    objects: list[MapObject]
    jobs: list[MapJob]
    same: list[list[str]]
    """
    Pairs of ids: files that a job writes by a name with placeholders, and the pattern by which another one reads them.
    """


class NewToken(Given):
    id: int
    label: str
    owner: str
    role: str
    """
    The most that it may do; empty: all that its owner may.
    """
    sites: list[str]
    """
    Of the workers that join with it; empty: it is for other programs.
    """
    jobs: list[str]
    """
    Whose runs it may start and see, and nothing else; empty: it is for more.
    """
    created_at: datetime
    used_at: datetime | None = Field(...)
    expires_at: datetime | None = Field(...)
    token: str
    """
    Shown this once.
    """
    user: User


class Probe(Given):
    passed: bool
    steps: list[ProbeStep]
    error: dict[str, Any] | None = Field(...)


class Rehearsal(Given):
    passed: bool
    would_fail: str
    """
    Why a run would fail, empty when it would not.
    """
    complete: bool
    """
    Whether all rows were tried.
    """
    steps: list[RehearsalStep]
    source_columns: list[str]
    target_columns: list[dict[str, Any]]
    rows: list[RehearsedRow]
    rejects: list[dict[str, Any]]
    findings: list[Finding]


class Run(Given):
    id: int
    job: str
    revision: int
    state: str
    outcome: str
    """
    What the run has left in its target, whatever its state: a run can fail after its rows are committed. unknown: the target has not answered yet, and is asked again.

    * `nothing` - Nothing
    * `committed` - Committed
    * `unknown` - Unknown
    """
    started_by: str | None = Field(...)
    queued_at: datetime
    started_at: datetime | None = Field(...)
    first_row_at: datetime | None = Field(...)
    ended_at: datetime | None = Field(...)
    stop_requested: bool
    error: dict[str, Any] | None = Field(...)
    kind: str
    """
    load: what the job says; rejects: rows that the run `origin` rejected; undo: takes its load back; repair: rows that a comparison has found to differ.

    * `load` - Load
    * `rejects` - Rejects
    * `undo` - Undo
    * `repair` - Repair
    """
    origin: int | None = Field(...)
    trigger: str
    """
    hand: someone, or a program; schedule: its time had come; after: jobs that it waits for had succeeded; fill: past times of its schedule.

    * `hand` - Hand
    * `schedule` - Schedule
    * `after` - After
    * `fill` - Fill
    """
    scheduled_for: datetime | None = Field(...)
    legs: list[Leg]
    file: str
    """
    The job file as it was run.
    """
    parameters: dict[str, Any]
    attempts: int
    followed_by: list[FollowUp]
    """
    Runs that loaded its rejects, or undid it.
    """


class Stream(Given):
    """
    A stream, with what was said of it, the newest first.
    """

    job: str
    state: str
    since: datetime
    """
    Since when it is in this state.
    """
    source: str
    target: str
    revision: int
    """
    Of the job, as which it runs or ran last.
    """
    newest_revision: int
    """
    Of the job as it is now: resume takes it.
    """
    started_by: str | None = None
    worker: str
    position: str
    """
    Up to which the target has the log, as the source writes it.
    """
    lag: float | None = Field(...)
    """
    How many seconds the target came after its source, when that was last seen.
    """
    lag_at: datetime | None = Field(...)
    log_kept: int | None = Field(...)
    """
    Bytes of its log that the source kept for it, when that was last seen.
    """
    tables: list[StreamTable]
    error: dict[str, Any] | None = Field(...)
    events: list[StreamEvent]


class StreamLine(Given):
    """
    A stream in a list.
    """

    job: str
    state: str
    since: datetime
    """
    Since when it is in this state.
    """
    source: str
    target: str
    revision: int
    """
    Of the job, as which it runs or ran last.
    """
    newest_revision: int
    """
    Of the job as it is now: resume takes it.
    """
    started_by: str | None = None
    worker: str
    position: str
    """
    Up to which the target has the log, as the source writes it.
    """
    lag: float | None = Field(...)
    """
    How many seconds the target came after its source, when that was last seen.
    """
    lag_at: datetime | None = Field(...)
    log_kept: int | None = Field(...)
    """
    Bytes of its log that the source kept for it, when that was last seen.
    """
    tables: list[StreamTable]
    error: dict[str, Any] | None = Field(...)


class Today(Given):
    at: datetime
    failed: list[Cause]
    late: list[Late]
    waiting: list[Waiting]
    under_way: list[RunBar]
    next: list[Upcoming]
    rejected: list[Rejected]
    streams: list[StreamLine]
    """
    Streams; those that need a look first.
    """
    runs: list[RunBar]
    """
    Those that were queued within the last 24 hours, the newest first.
    """
    more: bool
    """
    Whether there are more of them than are listed.
    """


class Check(Given):
    passed: bool
    legs: list[CheckedLeg]
    """
    Of a job with many objects, the worst first; none otherwise.
    """
    findings: list[Finding]
    columns: list[dict[str, Any]]
    ddl: str | None = Field(...)
    """
    What a run would execute to create or change the target.
    """
    source_sql: str | None = Field(...)
    """
    What a run would ask the source, when it is a database.
    """
    effect: str
    """
    What the job's mode would do to the target as it is now.
    """
    target_sql: list[str]
    """
    Statements that do what a run would do in the target in addition to loading rows.
    """
    target: str
    target_exists: bool
    rows_tried: int
    strategy: dict[str, Any] | None = Field(...)
    """
    How a run would write the rows; null where nothing can run.
    """
