"""Restoring lake tables: a load is undone by the version before it."""

from __future__ import annotations

from ultravect.core.contracts.load import CHANGED, ReceiptKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.accounts import commit_of, receipt_notes
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.tables import TableVersion, open_version

_CHANGES_NOTHING = frozenset(["ADD COLUMN", "OPTIMIZE", "VACUUM START", "VACUUM END"])


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
        if number == 0:
            return f"{table} was made by it, and has no version before"
        later = [commit for commit in version.history if int(commit["version"]) > number]
        others = [commit for commit in later if commit["operation"] not in _CHANGES_NOTHING]
        return f"{table} was written to since: version {others[-1]['version']} would be lost" if others else ""

    def restore(self, table: TableName, load: ReceiptKey, own: ReceiptKey, mode: str) -> int:
        version = self._opened(table)
        number = self._made(version, load)
        assert number, "it was looked for before"
        before, newest = version.rows, version.version
        with explained(self._place.name, version.path):
            version.restore(number - 1, receipt_notes(own, Receipt(str(table), mode, rows_before=before)))
        if self._opened(table).version != newest + 1:
            raise UltravectError(
                CHANGED, f"{table} was written to meanwhile", hint="look at its versions before anything else"
            )
        return before

    def _made(self, version: TableVersion, load: ReceiptKey) -> int | None:
        """The version that a load made."""
        commit = commit_of(version, load)
        return int(commit["version"]) if commit else None
