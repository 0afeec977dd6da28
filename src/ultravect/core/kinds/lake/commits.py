"""What is committed to lake tables: files that were written, and what a commit says of itself."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.place import LakePlace

_MS = 1000
_APP = "ultravect"


class CommitNotedError(Exception):
    """Another commit was made in the same name."""


@dataclass(frozen=True)
class Notes:
    """What a commit says of itself: ``names`` it is made in, each with a number, and texts for its history."""

    names: Mapping[str, int]
    texts: Mapping[str, str]

    def properties(self, retries: int | None = None) -> Any:
        from deltalake import CommitProperties, Transaction

        return CommitProperties(
            custom_metadata={f"{_APP}.{name}": text for name, text in self.texts.items()},
            app_transactions=[Transaction(f"{_APP}:{name}", number) for name, number in self.names.items()],
            max_commit_retries=retries,
        )


@dataclass(frozen=True)
class NewFile:
    """A file that was written and is not yet part of a version; ``statistics`` is the text that the format wants."""

    path: str
    size: int
    rows: int
    partition: Mapping[str, str | None]
    statistics: str

    def action(self, now: int) -> Any:
        from deltalake.transaction import AddAction

        return AddAction(self.path, self.size, self.partition, now, True, self.statistics)


def partition_text(value: Any) -> str | None:
    """A value as the format writes it in the description of a partition."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dt.datetime):
        return (
            value.astimezone(dt.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
            if value.tzinfo
            else value.strftime("%Y-%m-%d %H:%M:%S.%f")
        )
    return value.isoformat() if isinstance(value, dt.date) else str(value)


def create_table(
    place: LakePlace,
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
    from deltalake import Schema
    from deltalake.exceptions import CommitFailedError, DeltaError
    from deltalake.transaction import create_table_with_add_actions

    now = int(dt.datetime.now(dt.UTC).timestamp() * _MS)
    try:
        create_table_with_add_actions(
            place.uri(path),
            Schema.from_arrow(schema),
            [file.action(now) for file in files],
            mode="overwrite" if replace else "error",
            partition_by=list(partition_by),
            description=comment or None,
            storage_options=dict(place.options) or None,
            commit_properties=notes.properties(retries=0),
        )
    except (CommitFailedError, DeltaError) as error:
        if (place.has(path) and not replace) or isinstance(error, CommitFailedError):
            raise UltravectError(
                "table-changed",
                f"{path} was made or changed by another writer; nothing was written",
                hint="run again: the plan is made anew",
            ) from None
        raise
