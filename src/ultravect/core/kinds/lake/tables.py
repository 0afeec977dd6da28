"""Versions of lake tables: opened, read, and committed. Protocol: https://github.com/delta-io/delta/blob/master/PROTOCOL.md"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

import pyarrow as pa
import pyarrow.dataset as ds

from ultravect.core.contracts.load import CHANGED
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.place import LakePlace

if TYPE_CHECKING:
    from deltalake import DeltaTable

from ultravect.core.kinds.lake.commits import CommitNotedError, NewFile, Notes, partition_text
from ultravect.core.kinds.lake.refusals import explained

_MS = 1000
# what a table may ask of its writers, and is done here by no one
_UNSUPPORTED = ("delta.generationExpression", "delta.identity.start", "delta.invariants")
_CHECK = "delta.constraints."
_AT = re.compile(r"^(.+)@([^@]+)$")
_APP = "ultravect"


@dataclass(frozen=True)
class DataFile:
    """A file of a table's version; ``least`` and ``most`` are the bounds of its columns, as far as they are known."""

    path: str
    size: int
    rows: int | None
    partition: Mapping[str, Any]
    least: Mapping[str, Any]
    most: Mapping[str, Any]


class TableVersion:
    """A table as one of its versions has it."""

    def __init__(self, table: DeltaTable, path: str) -> None:
        self._table, self.path = table, path

    @property
    def version(self) -> int:
        return self._table.version()

    @cached_property
    def schema(self) -> pa.Schema:
        return pa.schema(self._table.schema().to_arrow())

    @property
    def comment(self) -> str:
        return self._table.metadata().description or ""

    @property
    def partition_by(self) -> Sequence[str]:
        return self._table.metadata().partition_columns

    @property
    def checks(self) -> Mapping[str, str]:
        """Conditions that each row has to meet, by their names."""
        properties = self._table.metadata().configuration
        return {
            name.removeprefix(_CHECK): text for name, text in properties.items() if name.startswith(_CHECK) and text
        }

    @property
    def unsupported(self) -> str:
        """What the table asks of its writers that is not done here; "" where there is nothing."""
        for field in self.schema:
            for name in _UNSUPPORTED:
                if name.encode() in (field.metadata or {}):
                    return f"column {field.name!r} has {name}"
        return ""

    @cached_property
    def files(self) -> Sequence[DataFile]:
        actions = pa.table(self._table.get_add_actions())
        return [
            DataFile(
                row["path"],
                row["size_bytes"],
                row["num_records"],
                row.get("partition") or row.get("partition_values") or {},
                row.get("min") or {},
                row.get("max") or {},
            )
            for row in actions.to_pylist()
        ]

    @cached_property
    def rows(self) -> int:
        known = [file.rows for file in self.files]
        if any(rows is None for rows in known):
            return int(self.dataset.count_rows())
        return sum(rows or 0 for rows in known)

    @cached_property
    def dataset(self) -> ds.Dataset:
        return self._table.to_pyarrow_dataset()

    def batches(self, file: DataFile) -> pa.RecordBatchReader:
        """The rows of one file, with the columns of the table."""
        # the log has paths as addresses do, with some characters written as %20
        return self._fragments[unquote(file.path)].scanner(schema=self.dataset.schema).to_reader()

    @cached_property
    def _fragments(self) -> Mapping[str, Any]:
        return {fragment.path.lstrip("/"): fragment for fragment in self.dataset.get_fragments()}

    def noted(self, app: str) -> int | None:
        """The number of the last commit that was made in the name of ``app``; None where none was."""
        return self._table.transaction_version(f"{_APP}:{app}")

    @cached_property
    def history(self) -> Sequence[Mapping[str, Any]]:
        """What commits say of themselves, the newest first."""
        return self._table.history()

    def add_columns(self, fields: Sequence[pa.Field]) -> None:
        from deltalake import Field

        self._table.alter.add_columns([Field.from_arrow(field) for field in fields])

    def restore(self, version: int, notes: Notes) -> None:
        self._table.restore(version, commit_properties=notes.properties())

    def compact(self) -> int:
        """Joins small files; how many files there are fewer."""
        figures = self._table.optimize.compact()
        return int(figures["numFilesRemoved"]) - int(figures["numFilesAdded"])

    def remove_old(self, hours: int) -> int:
        """Removes files that only versions before have; how many."""
        return len(self._table.vacuum(retention_hours=hours, dry_run=False, enforce_retention_duration=False))

    def commit(self, files: Sequence[NewFile], removed: Sequence[DataFile], notes: Notes, *, alone: bool) -> int:
        """Adds and removes files by one new version, and gives its number.

        ``alone``: only if no other version was made since this one. UltravectError ``target-changed`` where one was that is in the
        way, CommitNotedError where one was made in the same name.
        """
        from deltalake import Schema
        from deltalake.exceptions import CommitFailedError
        from deltalake.transaction import RemoveAction

        now = int(dt.datetime.now(dt.UTC).timestamp() * _MS)
        actions: list[Any] = [file.action(now) for file in files]
        partition = list(self.partition_by) or None
        # a file's path is what it is known by; its partition has to be said again
        actions += [
            RemoveAction(
                unquote(file.path), True, now, file.size, {k: partition_text(v) for k, v in file.partition.items()}
            )
            for file in removed
        ]
        try:
            self._table.create_write_transaction(
                actions,
                "append",
                Schema.from_arrow(self.schema),
                partition_by=partition,
                commit_properties=notes.properties(retries=0 if alone else None),
            )
        except CommitFailedError as error:
            if "oncurrent transaction" in str(error):
                raise CommitNotedError from None
            raise UltravectError(
                CHANGED,
                f"{self.path} was changed by another writer since version {self.version} was read; nothing was written",
                hint="run it again",
            ) from None
        return self._table.version()


def split_version(name: str) -> tuple[str, str]:
    """The name of a table, and what stands after ``@``: a version, or a moment; "" for the newest."""
    found = _AT.match(name)
    return (found[1], found[2]) if found else (name, "")


def open_version(place: LakePlace, path: str, at: str = "") -> TableVersion | None:
    """A table, in its newest version or in that of ``at``; None where there is none."""
    from deltalake import DeltaTable

    if not place.has(path):
        return None
    with explained(place.name, path):
        table = DeltaTable(place.uri(path), storage_options=dict(place.options) or None)
        if at.isdecimal():
            if int(at) > table.version():
                raise _no_version(place, path, at, f"the newest is {table.version()}")
            table.load_as_version(int(at))
        elif at:
            table.load_as_version(_moment(place, path, at))
    return TableVersion(table, path)


def _moment(place: LakePlace, path: str, at: str) -> dt.datetime:
    try:
        moment = dt.datetime.fromisoformat(at)
    except ValueError:
        raise _no_version(place, path, at, "write a number, or a moment such as 2026-07-01T00:00:00Z") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _no_version(place: LakePlace, path: str, at: str, why: str) -> UltravectError:
    return UltravectError(
        "version-missing",
        f"connection {place.name}: {path} has no version {at!r}: {why}",
        hint="name one that is there",
    )
