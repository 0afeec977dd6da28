"""File formats, one module or package each, registered here."""

from __future__ import annotations

import logging
import traceback
from collections.abc import Callable
from contextlib import closing
from typing import Any

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import FileReader, SourceFile, file_empty
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.layouts.documents.json_document import open_json
from ultravect.core.layouts.documents.json_lines import open_json_lines
from ultravect.core.layouts.documents.xml_document import open_xml
from ultravect.core.layouts.fixed.reader import open_fixed
from ultravect.core.layouts.formats import HEAD_BYTES, format_of, refuse_binary
from ultravect.core.layouts.parquet import open_parquet
from ultravect.core.layouts.workbook.reader import open_workbook
from ultravect.core.model.layout import FORMATS, AnyLayout

log = logging.getLogger(__name__)
READERS: dict[str, Callable[[SourceFile, Any], FileReader]] = {
    "delimited": open_delimited,
    "fixed": open_fixed,
    "jsonl": open_json_lines,
    "json": open_json,
    "xml": open_xml,
    "xlsx": open_workbook,
    "parquet": open_parquet,
}
TEXT_FORMATS = frozenset(["delimited", "fixed", "jsonl", "json", "xml"])


def open_layout(file: SourceFile, layout: AnyLayout | None) -> FileReader:
    """Opens a file as ``layout`` says, or as its bytes and its name say. UltravectError says why it cannot be read."""
    try:
        return _opened(file, layout)
    except (UltravectError, MemoryError, RecursionError):
        raise
    except Exception as error:
        # what a file holds is anyone's, and no library names all errors that it may meet with
        where = traceback.extract_tb(error.__traceback__)[-1]
        log.warning("%s: %s in %s, line %s", file.path, type(error).__name__, where.filename, where.lineno)
        raise UltravectError(
            "file-unreadable",
            f"{file.path} cannot be read{f' as {layout.format}' if layout else ''}: {type(error).__name__}: {str(error)[:200]}",
            hint="it is damaged, or of another format: name the format in from.layout",
            object=file.path,
        ) from None


def _opened(file: SourceFile, layout: AnyLayout | None) -> FileReader:
    with closing(file.open()) as stream:
        head = stream.read(HEAD_BYTES)
    # records of nothing but blanks are records
    blank = layout is None or layout.format != "fixed"
    if not head or (blank and len(head) < HEAD_BYTES and not head.removeprefix(b"\xef\xbb\xbf").strip()):
        raise file_empty(file.path, "is empty: it has no header and no rows")
    if layout is None:
        name, finding = format_of(file, head)
        reader = READERS[name](file, FORMATS[name].model_validate({"format": name}))
        reader.findings.insert(0, finding)
        return reader
    if layout.format in TEXT_FORMATS:
        refuse_binary(file, head, layout.format)
    return READERS[layout.format](file, layout)
