"""What every format's writer does, and how formats treat types: like dialects, so that plans are the same for both."""

from __future__ import annotations

import bz2
import gzip
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Protocol, cast

import pyarrow as pa
import zstandard

from ultravect.core.dialects.base import Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.types.canonical import CanonicalType, Fit


class Writer(Protocol):
    """Writes one file; ``close`` makes it whole."""

    def write(self, batch: pa.RecordBatch) -> None: ...

    def close(self) -> None: ...


class FileTypes(CommonDialect):
    """The types of a format: any name is possible, and there are no keys."""

    folds_case = False
    keeps_comments = False
    max_identifier_bytes = 1 << 16
    max_columns = 1_000_000
    name = ""
    random_value = length = ""  # nothing is asked of a file in SQL
    natives: Sequence[str] = ()

    def to_canonical(self, native: str) -> CanonicalType | None:
        return None

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name == "text":
            return Translation("text", Fit.EXACT if wanted.length is None else Fit.WIDER)
        return Translation("text", Fit.WIDER, "as its text")


def opened_for_text(path: Path, ending: str) -> IO[bytes]:
    """A file of text to be written, compressed as ``ending`` says."""
    match ending:
        case ".gz":
            # no name and no time in it: the same rows give the same bytes
            return cast(IO[bytes], gzip.GzipFile("", "wb", 6, path.open("wb"), mtime=0))
        case ".bz2":
            return cast(IO[bytes], bz2.BZ2File(path, "wb"))
        case ".zst":
            return cast(IO[bytes], zstandard.ZstdCompressor().stream_writer(path.open("wb"), closefd=True))
    return path.open("wb")
