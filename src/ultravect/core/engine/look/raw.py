"""The bytes of a file as they are, for someone who describes how it is cut."""

from __future__ import annotations

import base64
from contextlib import closing
from typing import Any

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.sources import source_files
from ultravect.core.layouts.encoding import detect_encoding

MAX_BYTES = 256 << 10


def raw_start(spec: ConnectionSpec, path: str, size: int, encoding: str | None) -> dict[str, Any]:
    """The first ``size`` bytes of a file's content, decompressed; as text in ``encoding``, or in the one detected.

    Bytes that are not of the encoding stand as U+FFFD. Of many files, the first one.
    """
    file = source_files(spec, path)[0]
    with closing(file.open()) as stream:
        data = stream.read(size)
    detected = detect_encoding(data)
    name = encoding or detected.name
    return {
        "object": file.path,
        "size": file.size,
        "read": len(data),
        "complete": len(data) < size,
        "encoding": name,
        "reason": detected.reason,
        "text": data.decode(name, "replace").removeprefix("\ufeff"),
        "base64": base64.b64encode(data[:4096]).decode(),
    }
