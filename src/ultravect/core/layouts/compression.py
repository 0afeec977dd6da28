"""Compressed files by their ending: gzip, bzip2, zstd and zip, read as streams, with a guard against bombs."""

from __future__ import annotations

import bz2
import gzip
import zipfile
import zlib
from collections.abc import Callable
from typing import BinaryIO, cast

import zstandard

from ultravect.core.errors import UltravectError
from ultravect.core.streams import ReadThrough

# deflate cannot do better than 1,032 to 1, and no honest table of this size comes near it
_MAX_RATIO = 250
_ALWAYS_ALLOWED = 256 << 20

_OPENERS: dict[str, Callable[[BinaryIO], BinaryIO]] = {
    ".gz": lambda stream: cast(BinaryIO, gzip.GzipFile(fileobj=stream)),
    ".bz2": lambda stream: cast(BinaryIO, bz2.BZ2File(stream)),
    ".zst": lambda stream: cast(
        BinaryIO, zstandard.ZstdDecompressor().stream_reader(stream, read_across_frames=True, closefd=True)
    ),
}
_LONGEST = max(map(len, _OPENERS))
_NAMES = {".gz": "gzip", ".bz2": "bzip2", ".zst": "zstd", ".zip": "zip"}
_FAILURES = (
    OSError,
    EOFError,
    zlib.error,
    zstandard.ZstdError,
    zipfile.BadZipFile,
    NotImplementedError,
    RuntimeError,
)


def compression_of(path: str) -> str:
    """``.gz``, ``.bz2``, ``.zst`` or ""."""
    ending = path[-_LONGEST:].lower()
    return next((known for known in _OPENERS if ending.endswith(known)), "")


def plain_name(path: str) -> str:
    """The path without the ending that says its compression."""
    ending = compression_of(path)
    return path[: -len(ending)] if ending else path


def broken(path: str, ending: str, reason: object) -> UltravectError:
    name = _NAMES.get(ending, ending)
    text = str(reason) or "it ends in the middle"
    return UltravectError(
        "compression-broken",
        f"{path} cannot be decompressed ({name}): {text[:200]}",
        hint="it is cut off, damaged, or not what its ending says; fetch it again",
        object=path,
    )


class GuardedStream(ReadThrough):
    """Decompressed bytes; raises UltravectError for damage, and for content out of all proportion to the file."""

    def __init__(self, stream: BinaryIO, path: str, ending: str, stored: int) -> None:
        super().__init__(stream)
        self._path, self._ending = path, ending
        self._allowed = max(_ALWAYS_ALLOWED, stored * _MAX_RATIO)
        self._given = 0

    def take(self, size: int) -> bytes:
        try:
            return super().take(size)
        except UltravectError:
            raise
        except _FAILURES as error:
            raise broken(self._path, self._ending, error) from None

    def seen(self, data: bytes, wanted: int) -> None:
        self._given += len(data)
        if self._given > self._allowed:
            raise UltravectError(
                "compression-suspicious",
                f"{self._path} swells to more than {_MAX_RATIO} times its size; reading stopped at "
                f"{self._given >> 20:,} MiB",
                hint="such a file is made to fill disks; if it is honest, decompress it before",
                object=self._path,
            )


def decompress(stream: BinaryIO, path: str, stored: int) -> BinaryIO:
    """The content of a file, decompressed when its ending says so."""
    ending = compression_of(path)
    if not ending:
        return stream
    return cast(BinaryIO, GuardedStream(_OPENERS[ending](stream), path, ending, stored))
