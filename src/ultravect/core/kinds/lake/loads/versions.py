"""Restoring lake tables: a load is undone by the version before it."""

from __future__ import annotations

from itertools import takewhile

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.dialects.base import TableName
from ultravect.core.kinds.lake.loads.ledger import commit_of, receipt_notes
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.table_version import TableVersion


class LakeVersions:
    """See ``Versions``."""

    def __init__(self, place: LakePlace) -> None:
        self._place = place

    def _opened(self, table: TableName) -> TableVersion:
        path = self._place.path(table)
        with explained(self._place.name, path):
            version = open_version(self._place, path)
        assert version is not None, "it was found a moment ago"
        return version

    def obstacle(self, table: TableName, load: ReceiptKey) -> str:
        number = self._made(version := self._opened(table), load)
        if number is None:
            return f"the history of {table} does not go back to it"
        if version.before(number) is None:
            return f"{table} was made by it, and has no version before"
        later = [
            commit.version
            for commit in takewhile(lambda commit: commit.version != number, version.history)
            if commit.changes_rows
        ]
        return f"{table} was written to since: version {later[-1]} would be lost" if later else ""

    def restore(self, table: TableName, load: ReceiptKey, own: ReceiptKey, mode: str) -> int:
        version = self._opened(table)
        number, rows = self._made(version, load), version.rows
        before = None if number is None else version.before(number)
        assert before is not None, "it was looked for before"
        with explained(self._place.name, version.path):
            version.restore(before, receipt_notes(own, Receipt(str(table), mode, rows_before=rows)))
        return rows

    def _made(self, version: TableVersion, load: ReceiptKey) -> int | None:
        """The version that a load made."""
        commit = commit_of(version, load)
        return commit.version if commit else None
