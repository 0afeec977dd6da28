"""Files as targets."""

from __future__ import annotations

import errno
import posixpath
import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from ultravect.core.contracts.catalogue import LiveTable, Remark
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.storage import Listing, Storage
from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.writers import WRITTEN_FORMATS
from ultravect.core.layouts.writers.workbook_fill import fill, sheet_names
from ultravect.core.model.base import size_bytes
from ultravect.core.model.jobs.into import Target
from ultravect.core.model.written import (
    ENDING,
    PART,
    WrittenXlsx,
    compression_ending,
    split_sheet,
    written_layout,
)
from ultravect.core.storage.file_ledger import FileSetLedger
from ultravect.core.storage.file_set import FileSet
from ultravect.core.storage.file_write import FileSetSession

_SHEET_LENGTH = 31
_NO_SHEET = frozenset("[]:*?\\")


class FilesTarget:
    """See ``Target``; ``template`` is the path with everything filled in but {part}."""

    database = None
    locks_tables = False
    truncates = False
    partitions = False
    arranges: frozenset[str] = frozenset()
    enforces_keys = True
    exclusive_file = ""
    stages: Stages | None = None
    together = windows = None
    can_isolate = False
    needs: Mapping[str, frozenset[str]] = {}

    def __init__(self, storage: Storage, into: Target, template: str) -> None:
        assert into.files is not None
        self.storage = storage
        self.template = into.files
        self.layout = written_layout(into.files, into.layout)
        self.dialect: Dialect = WRITTEN_FORMATS[self.layout.format].types
        self.split_rows = into.split.rows
        self.split_bytes = size_bytes(into.split.size) if into.split.size else None
        inside = split_sheet(template)
        self.sheet = ""
        if inside is not None:
            template, self.sheet = inside
            if len(self.sheet) > _SHEET_LENGTH or set(self.sheet) & _NO_SHEET:
                raise UltravectError(
                    "sheet-name",
                    f"{self.sheet!r} is no name of a sheet: it has at most {_SHEET_LENGTH} characters, and none of []:*?\\",
                    hint="name it otherwise in into.files, after the slash",
                    place="into.files",
                )
        self.name = self._numbered(template)

    def _numbered(self, template: str) -> str:
        """The path with the ending that fits the format, and {part} in it where several files may be written."""
        compressed = compression_ending(template)
        plain = template[: -len(compressed)] if compressed else template
        stem, ending = posixpath.splitext(plain)
        if not ending or "{" in ending:
            stem, ending = plain, ENDING[self.layout.format]
        splits = self.split_rows is not None or self.split_bytes is not None
        if splits and f"{{{PART}}}" not in stem:
            stem += f"-{{{PART}}}"
        return f"{stem}{ending}{compressed}"

    def path_of(self, attempt: Attempt, known: FileSet) -> str:
        """Where a load writes. Appending never takes a name that another run has used: the run's number is in it."""
        if attempt.plan.replaces is not None:
            return self.name
        if self.sheet:
            return self._new_sheet(attempt, known)
        if attempt.key and (begun := known.begun(attempt.key.run)):
            return begun.name
        first = self.name.replace(f"{{{PART}}}", "0001")
        taken = {item.path for item in self.storage.list(Listing(pattern=first, limit=1))}
        if first not in taken and first not in known.files:
            return self.name
        number = attempt.key.run.split("-")[0] if attempt.key else "2"
        folder, name = posixpath.split(self.name)
        stem, dot, endings = name.partition(".")
        return posixpath.join(folder, f"{stem}-run{number}{dot}{endings}")

    def _new_sheet(self, attempt: Attempt, known: FileSet) -> str:
        """The book of a sheet that is not there yet: rows are never added to one that is, since they could be there twice."""
        begun = attempt.key and known.begun(attempt.key.run)
        with tempfile.TemporaryDirectory() as folder:
            base = None if begun else self._fetched(self.name, Path(folder) / "rows.xlsx")
            if base is not None and self.sheet in sheet_names(base, self.name):
                raise UltravectError(
                    "sheet-there",
                    f"{self.name} has a sheet {self.sheet!r} already, and rows are not added to one that is there",
                    hint="write by mode: overwrite, or name another sheet",
                    object=self.name,
                )
        return self.name

    def table(self, name: TableName) -> LiveTable | None:
        return None

    def may_create(self, name: TableName) -> str:
        return ""

    def count(self, name: TableName) -> int | None:
        return None

    def ledger(self, table: TableName) -> FileSetLedger:
        # a book has notes of its own for each of its sheets
        return FileSetLedger(self.storage, f"{self.name}!{self.sheet}" if self.sheet else self.name, self.template)

    def file_set(self) -> FileSet:
        """What was written by this name, as the storage has it now."""
        return self.ledger(TableName(None, self.name)).file_set()

    def remarks(self) -> Sequence[Remark]:
        return ()

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "the target is files"

    @property
    def is_filled(self) -> bool:
        """Whether rows go into a workbook that is there, or into a place of one."""
        layout = self.layout
        return isinstance(layout, WrittenXlsx) and bool(self.sheet or layout.template or layout.start != "A1")

    def require_template(self) -> None:
        """UltravectError where the workbook to be filled is not there."""
        if isinstance(self.layout, WrittenXlsx) and self.layout.template:
            self.storage.open(self.layout.template).stream.close()

    def filled(self, rows: Path) -> Path:
        """The workbook to be put in place, next to ``rows``: the one that is there, or the template, with the sheet filled."""
        layout = self.layout
        assert isinstance(layout, WrittenXlsx)
        base, named = None, layout.template
        if self.sheet:
            layout = layout.model_copy(update={"sheet": self.sheet})
            base = self._fetched(self.name, rows)
            named = self.name if base is not None else layout.template
        if base is None and layout.template:
            base = self._fetched(layout.template, rows)
            if base is None:
                self.require_template()
        made = rows.with_name(f"filled-{rows.name}")
        fill(rows, base, named or self.name, layout, made)
        return made

    def _fetched(self, path: str, rows: Path) -> Path | None:
        """A file of the storage on this machine; None where there is none."""
        try:
            opened = self.storage.open(path)
        except UltravectError as error:
            if error.code != "file-missing":
                raise
            return None
        local = rows.with_name(f"base-{rows.name}")
        with opened.stream as stream, local.open("wb") as out:
            shutil.copyfileobj(stream, out, 1 << 20)
        return local

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[FileSetSession]:
        folder = Path(tempfile.mkdtemp(prefix="ultravect-files-"))
        try:
            yield FileSetSession(self, attempt, folder)
        except OSError as error:
            raise UltravectError(
                "worker-full" if error.errno == errno.ENOSPC else "file-not-written",
                f"writing rows on the worker failed: {error.strerror}",
                hint="free disk space there, or name another place in TMPDIR",
            ) from None
        finally:
            shutil.rmtree(folder, ignore_errors=True)
