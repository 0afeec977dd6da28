"""What a layout reads from, and what every format's reader gives."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import BinaryIO, Protocol, runtime_checkable

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import AnyLayout
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.inference.proof import Proof
from ultravect.core.types.text_formats import TextFormats

MAX_COLUMNS = 10_000
MAX_RECORD = 64 << 20


@dataclass(frozen=True)
class SourceFile:
    """A file that can be opened any number of times.

    ``size`` in bytes as it is stored; ``open`` gives the bytes of its content, decompressed, from the start;
    ``open_stored`` those that are stored, which can be sought in. ``partitions`` are the keys and values that the
    names of its folders say.
    """

    path: str
    size: int
    open: Callable[[], BinaryIO]
    open_stored: Callable[[], BinaryIO]
    modified: dt.datetime | None = None
    compressed: bool = False
    partitions: Sequence[tuple[str, str]] = ()
    tag: str = ""
    """See ``FileInfo``."""


@dataclass(frozen=True)
class BadRow:
    """A row that is not whole; ``index`` counts in its block."""

    index: int
    reason: str


@dataclass(frozen=True)
class Rows:
    """A block's rows: ``values`` of those that are whole, ``index`` their place in the block; and the bad ones.

    Columns are binary (text as it stands in the file), string, or of a type of the format's own.
    """

    values: pa.Table
    index: npt.NDArray[np.int64]
    bad: Sequence[BadRow] = ()

    @property
    def count(self) -> int:
        return len(self.index) + len(self.bad)


@dataclass(frozen=True)
class WantedColumn:
    """A column of the file, by position, and the type to parse it into.

    ``plain``: only numbers without leading zeros fit, and exponents only in a double.
    """

    position: int
    type: CanonicalType
    formats: TextFormats
    plain: bool = False


class Block(Protocol):
    """Some rows of a file, one after the other."""

    @property
    def path(self) -> str:
        """The file they are from."""

    @property
    def size(self) -> int:
        """Bytes of content, for the progress."""

    @property
    def has_nul(self) -> bool:
        """Whether a value may hold a NUL character."""

    def row_line(self, index: int) -> int | None:
        """The line of the file at which a row starts, where there are lines."""

    def row_text(self, index: int) -> str:
        """A row as it was read."""


@dataclass(frozen=True)
class FileSpan:
    """The rows of a block from ``first_row`` on, up to the next span, are all rows of the file ``path``."""

    path: str
    first_row: int


@runtime_checkable
class SpansFiles(Protocol):
    """A block that may have rows of several files."""

    @property
    def spans(self) -> Sequence[FileSpan]:
        """None where all rows are of the block's own path."""


class Reader(Protocol):
    """Where rows come from, opened: ``names`` are unique and not empty.

    ``given`` has the type of each column that the source itself declares, None where its text says.
    """

    @property
    def label(self) -> str:
        """What is read, in messages."""

    @property
    def size(self) -> int:
        """Bytes of the source, for the progress; 0 where no one knows."""

    @property
    def date_pattern(self) -> str | None:
        """How dates are written, where that was said and need not be found."""

    @property
    def names(self) -> list[str]: ...

    @property
    def given(self) -> Sequence[CanonicalType | None]: ...

    @property
    def typed_values(self) -> bool:
        """Whether the format distinguishes numbers from text, so that text is not searched for numbers."""

    @property
    def findings(self) -> list[Finding]: ...

    @property
    def formats(self) -> TextFormats: ...

    def blocks(self) -> Iterator[Block]:
        """The rows, in the order of the file."""

    def read(self, block: Block) -> Rows:
        """Every value of a block, with the rows that are not whole."""

    def read_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        """The wanted columns in their types, or None where it cannot, or where a value or row does not fit.

        Columns that ``parses`` denies arrive as strings.
        """

    def parses(self, column: WantedColumn) -> bool:
        """Whether ``read_typed`` gives this column in its type."""


class FileReader(Reader, Protocol):
    """A reader of a file, or of several; ``layout`` has nothing left open."""

    @property
    def file(self) -> SourceFile: ...

    @property
    def layout(self) -> AnyLayout: ...


class OneFile:
    """What readers of one file share."""

    file: SourceFile
    layout: AnyLayout

    @property
    def label(self) -> str:
        return self.file.path

    @property
    def size(self) -> int:
        return self.file.size

    @property
    def date_pattern(self) -> str | None:
        return self.layout.values.dates


@dataclass(frozen=True)
class ParsedColumns:
    """Columns in their types, all rows of a block; the values of the ``odd`` rows do not all fit, and are NULL there."""

    columns: Sequence[pa.Array]
    odd: npt.NDArray[np.int64]


@runtime_checkable
class ReportsFailures(Protocol):
    """A reader that need not look at a whole block anew for the sake of some rows."""

    def read_parsed(self, block: Block, wanted: Sequence[WantedColumn]) -> ParsedColumns | None:
        """As ``read_typed``, and values that do not fit refuse only their rows; None where it cannot, or where they are many."""

    def only(self, block: Block, places: npt.NDArray[np.int64]) -> Rows:
        """As ``Reader.read``, these rows of the block; for blocks of which ``read_parsed`` gave something."""


@runtime_checkable
class ReadsAlike(Protocol):
    """A reader of a file, by which others that are cut as it is are opened quickly."""

    def like(self, file: SourceFile) -> FileReader | None:
        """A reader of another file; None where it has to be looked at more closely."""


@runtime_checkable
class JoinsFiles(Protocol):
    """A reader of a file whose blocks can be put together with those of other files that are cut as it is."""

    def small(self, file: SourceFile) -> Block | None:
        """All rows of a small file that is cut as this one, where one look shows that it is; None where it is opened as others are."""

    def join(self, blocks: Sequence[Block]) -> Block:
        """One block of the rows of ``blocks``, each of which is all of its file; it is read by this reader."""


@runtime_checkable
class KeyedReader(Protocol):
    """A reader of rows that can be found again by a key, wherever they stand then."""

    @property
    def keys(self) -> Sequence[str]:
        """The columns of the key, empty where there is none."""

    def keys_of(self, block: Block, places: npt.NDArray[np.int64]) -> pa.Table:
        """The keys of these rows of a block, as texts."""


@runtime_checkable
class VerifiesTypes(Protocol):
    """A reader that can recognise types in a block without keeping its values, and holds ``WantedColumn.plain``."""

    def prove(self, block: Block, wanted: Sequence[WantedColumn]) -> list[Proof | None] | None:
        """What the values of each column say about its type, None where they cannot; None instead of all for rows that are
        not whole."""


class TextValues(OneFile):
    """What readers of plain text share: no types are declared, and text may be numbers."""

    names: list[str]

    @property
    def given(self) -> Sequence[CanonicalType | None]:
        return [None] * len(self.names)

    @property
    def typed_values(self) -> bool:
        return False

    @property
    def formats(self) -> TextFormats:
        return TextFormats.of(self.layout.values)


def unique_names(names: Sequence[str], place: str = "from.layout") -> tuple[list[str], list[Finding]]:
    """Names trimmed, the empty ones and repeats renamed."""
    findings: list[Finding] = []
    taken: set[str] = set()
    result: list[str] = []
    given = {name.strip() for name in names}
    suffix: dict[str, int] = {}
    for position, raw in enumerate(names, 1):
        name = raw.strip()
        base = name or f"column_{position}"
        final = base
        while final in taken or (final != name and final in given):
            suffix[base] = suffix.get(base, 1) + 1
            final = f"{base}_{suffix[base]}"
        if final != name:
            what = (
                f"column {position} has no name"
                if not name
                else f"the name {name!r} stands in the header more than once"
            )
            findings.append(Finding("note", "column-renamed", f"{what}; it is called {final!r} here", place))
        taken.add(final)
        result.append(final)
    return result, findings


def require_columns(path: str, count: int, hint: str) -> None:
    """UltravectError when a file has more columns than can be read."""
    if count > MAX_COLUMNS:
        raise UltravectError(
            "too-many-columns",
            f"{path} has {count:,} columns; at most {MAX_COLUMNS:,} can be read",
            hint=hint,
            object=path,
        )


def file_empty(path: str, what: str, hint: str = "check that it was written completely") -> UltravectError:
    return UltravectError("file-empty", f"{path} {what}", hint=hint, object=path)
