"""The ledger of targets that are files: notes next to them, one of each run and one of each job's marks.

The note of a run that has its receipt is what commits: files appear before it, and are known to be the run's by the note without a receipt.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, replace

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.storage import Storage
from ultravect.core.contracts.write_plan import WritePlan
from ultravect.core.loading.refusals import attempt_replaced, mark_moved
from ultravect.core.storage.file_set import FileNote, FileSet
from ultravect.core.storage.mark_note import MarkNote


class FileSetLedger:
    """See ``Ledger``. ``name`` is that of the files, with {part} in it where they are several; ``template`` has all its placeholders."""

    def __init__(self, storage: Storage, name: str, template: str) -> None:
        self._storage, self._name, self._template = storage, name, template

    def file_set(self) -> FileSet:
        """What was written by this name, as the storage has it now."""
        return FileSet(self._storage, self._name, self._template)

    def receipt(self, key: ReceiptKey) -> Receipt | None:
        return self.file_set().receipt(key.run)

    def committed(self, keys: Sequence[ReceiptKey]) -> Receipt | None:
        known = self.file_set()
        found = known.committed(keys)
        for note in [known.notes[key.run] for key in keys if key.run in known.notes] if found is not None else ():
            if note.marks:  # the run died before it wrote them
                self._write_marks(known, note)
        return found

    def mark(self, key: MarkKey) -> Mapping[str, str]:
        return self._note_of(key.job).entries(key)

    def set_mark(self, key: MarkKey, value: str | None) -> None:
        note = self._note_of(key.job)
        held = note.all()
        held.pop(key.object, None)
        note.store(held if value is None else {**held, key.object: {"": value}})

    def _note_of(self, job: str) -> MarkNote:
        return MarkNote(self._storage, self._template, job)

    def publish(
        self, plan: WritePlan, entry: Entry, paths: Sequence[str], template: str, put: Callable[[str], None]
    ) -> None:
        """Has ``put`` put each of the files in its place, and commits them with the entry; ``template``: the path that they were made of."""
        self._require_marks(entry.marks)
        # as it is now: others may have written by this name since the load began
        known, run = self.file_set(), entry.run
        old = [path for path in known.files if path not in paths] if plan.replaces is not None else []
        self._require_standing(known, run, plan)
        # noted before any file appears, so that a run that takes over, or the next one, knows them all
        earlier = known.notes[run].files if run in known.notes else []
        note = FileNote(run, sorted({*earlier, *paths}), template)
        known.store(note)
        for path in paths:
            self._require_standing(known, run, plan)
            put(path)
        for path in old:
            self._storage.remove(path)
        note.files = [path for path in note.files if path not in old]
        account = entry.receipt or Receipt(self._name, "", rows_before=None)
        # the note is what commits: another run that finds it writes the marks
        note.receipt = replace(account, marks=[asdict(change) for change in entry.marks]).as_dict()
        known.store(note)
        self._write_marks(known, note)
        known.replaced(note, old)

    @staticmethod
    def _require_standing(known: FileSet, run: str, plan: WritePlan) -> None:
        if run and known.has_ended(run):
            raise attempt_replaced(plan)

    def _require_marks(self, marks: Sequence[MarkChange]) -> None:
        """Raises where another run has copied the same meanwhile."""
        for change in marks:
            if self.mark(change.key).get(change.item) != change.before:
                raise mark_moved(change.key)

    def _write_marks(self, known: FileSet, note: FileNote) -> None:
        """Writes the marks that a committed note has, and takes them out of it: what is set by hand afterwards stays."""
        marks = note.marks
        for job in {change.key.job for change in marks}:
            held = self._note_of(job)
            # one that was set by hand in the meantime stays
            held.write(
                [
                    change
                    for change in marks
                    if change.key.job == job and held.entries(change.key).get(change.item) == change.before
                ]
            )
        if marks:
            note.receipt = {**(note.receipt or {}), "marks": []}
            known.store(note)
