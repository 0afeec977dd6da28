"""Files in memory, for tests of layouts."""

from __future__ import annotations

import io

from ultravect.core.layouts.base import SourceFile
from ultravect.core.layouts.compression import compression_of, decompress


def file_of(path: str, content: bytes) -> SourceFile:
    """A file with some content, decompressed by its ending."""

    def stored() -> io.BytesIO:
        return io.BytesIO(content)

    return SourceFile(
        path,
        len(content),
        lambda: decompress(stored(), path, len(content)),
        stored,
        compressed=bool(compression_of(path)),
    )
