"""What a commit to a table of Delta Lake is made of, in the words of the format's library."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ultravect.core.kinds.lake.loads.commits import NewFile, Notes, partition_text

APP = "ultravect"
"""Begins the names under which commits say what they are of."""


def properties(notes: Notes, retries: int | None = None) -> Any:
    from deltalake import CommitProperties, Transaction

    return CommitProperties(
        custom_metadata={f"{APP}.{name}": text for name, text in notes.texts.items()},
        app_transactions=[Transaction(f"{APP}:{name}", number) for name, number in notes.names.items()],
        max_commit_retries=retries,
    )


def texts(partition: Mapping[str, Any]) -> dict[str, str | None]:
    return {name: partition_text(value) for name, value in partition.items()}


def added(file: NewFile, now: int) -> Any:
    from deltalake.transaction import AddAction

    return AddAction(file.path, file.size, texts(file.partition), now, True, file.statistics)
