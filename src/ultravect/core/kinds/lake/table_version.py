"""What each format of lake tables gives: versions that are read, and commits that make new ones."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

import pyarrow as pa
import pyarrow.dataset as ds

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.commits import NewFile, Notes
from ultravect.core.kinds.lake.partitions import PartitionField

if TYPE_CHECKING:
    from ultravect.core.kinds.lake.place import LakePlace

_AT = re.compile(r"^(.+)@([^@]+)$")


@dataclass(frozen=True)
class DataFile:
    """A file of a table's version; ``least`` and ``most`` are the bounds of its columns, as far as they are known. ``deleted``: by what it is
    distinguished from the same file in versions in which other rows of it are deleted."""

    path: str
    size: int
    rows: int | None
    partition: Mapping[str, Any]
    least: Mapping[str, Any]
    most: Mapping[str, Any]
    deleted: str = ""

    @property
    def identity(self) -> tuple[str, str]:
        return self.path, self.deleted


@dataclass(frozen=True)
class Commit:
    """What made a version: ``texts`` are those of its notes; ``changes_rows``: whether other rows are read since; ``moment``: when, in
    microseconds since 1970."""

    version: int
    texts: Mapping[str, str]
    changes_rows: bool
    moment: int


@dataclass(frozen=True)
class Since:
    """Rows that came after a version. ``repeated``: whether there are rows among them that did not change."""

    dataset: ds.Dataset
    rows: int | None
    repeated: bool


def files_since(then: TableVersion, now: TableVersion) -> Since:
    """The rows of the files that an older version did not have."""
    before = {file.path for file in then.files}
    new = [file for file in now.files if file.path not in before]
    counts = [file.rows for file in new]
    rows = None if None in counts else sum(count or 0 for count in counts)
    left = {file.path for file in now.files}
    return Since(now.dataset_of(new), rows, bool(new) and not before <= left)


class TableVersion(Protocol):
    """A table as one of its versions has it.

    ``path`` names the table, and ``folder`` is where its files are, both below the place. ``checks``: conditions that each row has to
    meet, by their names. ``unsupported``: what the table asks of its writers that is not done here; "" where there is nothing.
    """

    path: str
    folder: str

    @property
    def version(self) -> int: ...

    @property
    def schema(self) -> pa.Schema: ...

    @property
    def comment(self) -> str: ...

    @property
    def partition_by(self) -> Sequence[str]:
        """Columns whose values are the same in all rows of a file."""

    @property
    def partition_fields(self) -> Sequence[PartitionField]:
        """By what new files are split."""

    @property
    def checks(self) -> Mapping[str, str]: ...

    @property
    def unsupported(self) -> str: ...

    @property
    def files(self) -> Sequence[DataFile]: ...

    @property
    def rows(self) -> int: ...

    @property
    def dataset(self) -> ds.Dataset: ...

    @property
    def history(self) -> Sequence[Commit]:
        """The commits that are still known, the newest first."""

    def since(self, older: int) -> Since:
        """What came after an older version; UltravectError ``version-missing`` where it is no longer known."""

    def dataset_of(self, files: Sequence[DataFile]) -> ds.Dataset:
        """The rows of some files, with the columns of the table."""

    def batches(self, file: DataFile) -> pa.RecordBatchReader:
        """The rows of one file, with the columns of the table."""

    def noted(self, name: str) -> int | None:
        """The number of the last commit that was made in this name; None where none was."""

    def before(self, version: int) -> int | None:
        """The version before one; None where it was the first, or is no longer known."""

    def add_columns(self, fields: Sequence[pa.Field]) -> None: ...

    def written_schema(self, added: Sequence[pa.Field]) -> pa.Schema:
        """The columns of new files, as the format wants them: those that are there, and those that will be added."""

    def restore(self, version: int, notes: Notes) -> None:
        """Makes a new version that has the rows of an older one; UltravectError ``target-changed`` where another writer was quicker."""

    def compact(self) -> int:
        """Joins small files; how many files there are fewer."""

    def remove_old(self, hours: int) -> None:
        """Removes files that only versions have which are older than that."""

    def commit(self, files: Sequence[NewFile], removed: Sequence[DataFile], notes: Notes, *, alone: bool) -> int:
        """Adds and removes files by one new version, and gives its number.

        ``alone``: only if no other version was made since this one. UltravectError ``target-changed`` where one was that is in the
        way, CommitNotedError where one was made in the same name.
        """


class LakeFormat(Protocol):
    """``holds_partitions``: whether files have the columns by which a table is partitioned; ``data``: the folder of files in a table's."""

    holds_partitions: bool
    data: str

    def tables(self) -> Sequence[str]:
        """The paths of all tables, sorted."""

    def open(self, path: str, at: str) -> TableVersion | None:
        """A table, in its newest version or in that of ``at``: a number, or a moment; None where there is none."""

    def new_schema(self, path: str, fields: Sequence[pa.Field]) -> pa.Schema:
        """The columns of a table that is to be made, or made anew, as its files have them."""

    def create(
        self,
        path: str,
        schema: pa.Schema,
        files: Sequence[NewFile],
        partition_by: Sequence[str],
        comment: str,
        notes: Notes,
        *,
        replace: bool = False,
    ) -> None:
        """Makes a table with its first rows by one commit; ``replace``: one that is there gets another form and other rows.

        UltravectError ``table-changed`` where another writer has made it.
        """


BETWEEN = ".."
"""Stands between two versions in the name of a table: what came after the first, up to the second."""


def split_version(name: str) -> tuple[str, str]:
    """The name of a table, and what stands after ``@``: a version, or a moment; "" for the newest."""
    found = _AT.match(name)
    return (found[1], found[2]) if found else (name, "")


def moment_of(place: LakePlace, path: str, at: str) -> dt.datetime:
    try:
        moment = dt.datetime.fromisoformat(at)
    except ValueError:
        raise no_version(place, path, at, "write a number, or a moment such as 2026-07-01T00:00:00Z") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def no_version(place: LakePlace, path: str, at: str, why: str) -> UltravectError:
    return UltravectError(
        "version-missing",
        f"connection {place.name}: {path} has no version {at!r}: {why}",
        hint="name one that is there",
    )


def table_changed(path: str) -> UltravectError:
    return UltravectError(
        "table-changed",
        f"{path} was made or changed by another writer; nothing was written",
        hint="run again: the plan is made anew",
    )


def rows_of(files: Sequence[DataFile], count: Callable[[], int]) -> int:
    """How many rows the files have; ``count`` counts them, where not all files say."""
    known = [file.rows for file in files]
    return sum(rows for rows in known if rows is not None) if None not in known else count()
