"""The ledger of a lake table: receipts and marks are named in the commit that publishes the rows, so that both are there or neither.

A commit can be made in the names of programs, each with a number, of which the format allows one at a time and keeps the last for ever.
A load's receipt is such a name, with the account in the commit's description. A mark is another one, whose number says in which file of
the table's folder its entries are. That file is written before, under a number that no one else takes: it counts from the commit on that
names it, and where that does not take place, it never does.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import hashlib
import json
import secrets
from collections.abc import Collection, Mapping, Sequence

import pyarrow.fs as pafs

from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.receipt import FENCE, Receipt, ReceiptKey
from ultravect.core.dialects.base import TableName
from ultravect.core.kinds.lake.loads.commits import CommitNotedError, Notes
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.table_version import Commit, TableVersion
from ultravect.core.loading.refusals import mark_moved, no_table

_NOTES = "_ultravect"
_RECEIPT, _NAME = "receipt", "load"
_NUMBER_BITS = 62
_KEPT = dt.timedelta(days=7)


def receipt_name(key: ReceiptKey) -> str:
    return f"load:{key.run}:{key.leg}:{key.slice}"


def commit_of(version: TableVersion, key: ReceiptKey) -> Commit | None:
    """What the commit of a load says of itself, as far as the table's history goes back."""
    name = receipt_name(key)
    return next((commit for commit in version.history if commit.texts.get(_NAME) == name), None)


def find_receipt(version: TableVersion, key: ReceiptKey) -> Receipt | None:
    """The receipt of a load, fences included; None where there is none."""
    if version.noted(receipt_name(key)) is None:
        return None
    if commit := commit_of(version, key):
        return Receipt.from_text(commit.texts[_RECEIPT])
    # the log of old commits is removed in time, and the name stays: it was committed
    return Receipt(version.path, "", rows_before=None)


def receipt_notes(key: ReceiptKey, receipt: Receipt) -> Notes:
    name = receipt_name(key)
    return Notes({name: 1}, {_NAME: name, _RECEIPT: receipt.as_text()})


def _fence_file(key: ReceiptKey) -> str:
    """What bars an attempt from making a table that is not there yet, and so can have no commits."""
    return f"{_NOTES}/{hashlib.sha256(receipt_name(key).encode()).hexdigest()[:32]}.barred"


class LakeMarks:
    """The marks of jobs in one table."""

    def __init__(self, place: LakePlace, folder: str) -> None:
        self._place, self._folder = place, folder

    def entries(self, version: TableVersion | None, key: MarkKey) -> Mapping[str, str]:
        """The entries of a mark by their items; none of a table that is not there yet."""
        number = version.noted(_mark_name(key)) if version is not None else None
        if number is None:
            return {}
        with self._place.files.open_input_stream(self._file(key, number)) as file:
            found: dict[str, str] = json.loads(file.read())
        return found

    def changed(self, version: TableVersion | None, changes: Sequence[MarkChange]) -> Mapping[str, int]:
        """Writes the files of changed marks; the names and numbers for the commit. UltravectError ``mark-moved`` where one is another."""
        names: dict[str, int] = {}
        for key in dict.fromkeys(change.key for change in changes):
            entries = dict(self.entries(version, key))
            for change in changes:
                if change.key == key:
                    if entries.get(change.item) != change.before:
                        raise mark_moved(key)
                    change.apply(entries)
            names |= self.written(version, key, entries)
        return names

    def written(self, version: TableVersion | None, key: MarkKey, entries: Mapping[str, str]) -> Mapping[str, int]:
        """Writes a mark anew; see ``changed``."""
        number = secrets.randbits(_NUMBER_BITS)
        self._place.make_folder(f"{self._folder}/{_NOTES}")
        with self._place.files.open_output_stream(self._file(key, number)) as file:
            file.write(json.dumps(entries).encode())
        held = version.noted(_mark_name(key)) if version is not None else None
        self._forget(key, {self._file(key, kept) for kept in (number, held) if kept is not None})
        return {_mark_name(key): number}

    def _forget(self, key: MarkKey, kept: Collection[str]) -> None:
        """Removes files of a mark that no commit names any more, once no run can be under way that reads or names them."""
        oldest = dt.datetime.now(dt.UTC) - _KEPT
        with contextlib.suppress(OSError):
            for info in self._place.files.get_file_info(pafs.FileSelector(f"{self._folder}/{_NOTES}")):
                own = info.path.rpartition("/")[2].startswith(f"{_digest(key)}.")
                old = info.mtime is not None and info.mtime < oldest
                if own and old and info.path.lstrip("/") not in {path.lstrip("/") for path in kept}:
                    self._place.files.delete_file(info.path)

    def _file(self, key: MarkKey, number: int) -> str:
        return f"{self._folder}/{_NOTES}/{_digest(key)}.{number}.json"


def _digest(key: MarkKey) -> str:
    return hashlib.sha256(f"{key.job}\0{key.object}".encode()).hexdigest()[:32]


def _mark_name(key: MarkKey) -> str:
    return f"mark:{_digest(key)}"


class LakeLedger:
    """See ``Ledger``."""

    def __init__(self, place: LakePlace, table: TableName) -> None:
        self._place, self._table = place, table
        self._path = place.path(table)

    def _version(self) -> TableVersion | None:
        with explained(self._place.name, self._path):
            return open_version(self._place, self._path)

    def receipt(self, key: ReceiptKey) -> Receipt | None:
        version = self._version()
        if version is None:
            return None
        with explained(self._place.name, version.path):
            found = find_receipt(version, key)
        return None if found is None or found.bars else found

    def committed(self, keys: Sequence[ReceiptKey]) -> Receipt | None:
        for key in keys:
            version = self._version()
            if version is None:
                if not is_barred(self._place, key):
                    with explained(self._place.name, self._path):
                        _bar(self._place, key)
                continue
            with explained(self._place.name, version.path):
                found = find_receipt(version, key)
                if found is None:
                    found = self._fenced(version, key)
            if found is not None and not found.bars:
                return found
        return None

    def _fenced(self, version: TableVersion, key: ReceiptKey) -> Receipt | None:
        """Commits what bars a load; the receipt of the load where that was quicker."""
        fence = receipt_notes(key, Receipt(str(self._table), FENCE, rows_before=None))
        try:
            version.commit([], [], fence, alone=False)
        except CommitNotedError:
            now = open_version(self._place, version.path)
            return find_receipt(now, key) if now else None
        return None

    def mark(self, key: MarkKey) -> Mapping[str, str]:
        version = self._version()
        if version is None:
            return {}
        with explained(self._place.name, version.path):
            return LakeMarks(self._place, version.folder).entries(version, key)

    def set_mark(self, key: MarkKey, value: str | None) -> None:
        version = self._version()
        if version is None:
            raise no_table(self._table)
        with explained(self._place.name, version.path):
            marks = LakeMarks(self._place, version.folder)
            names = marks.written(version, key, {} if value is None else {"": value})
            version.commit([], [], Notes(names, {}), alone=False)


def is_barred(place: LakePlace, key: ReceiptKey) -> bool:
    """Whether an attempt may not make a table that is not there yet."""
    found = place.files.get_file_info(_fence_file(key))
    return bool(found.type == pafs.FileType.File)


def _bar(place: LakePlace, key: ReceiptKey) -> None:
    place.make_folder(_NOTES)
    with place.files.open_output_stream(_fence_file(key)) as file:
        file.write(b"another attempt has taken the run over\n")
