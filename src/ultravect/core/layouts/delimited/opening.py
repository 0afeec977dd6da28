"""Opens a delimited file: how it is cut, which of its rows names the columns, and what is to be noted of that."""

from __future__ import annotations

from contextlib import closing

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import (
    SourceFile,
    file_empty,
    require_columns,
    unique_names,
)
from ultravect.core.layouts.delimited.blocks import DelimitedBlock
from ultravect.core.layouts.delimited.opened import Opened, all_blocks, cells, dialect_of
from ultravect.core.layouts.delimited.reader import DelimitedReader
from ultravect.core.layouts.delimited.sniff import HEAD_BYTES, sniff
from ultravect.core.model.finding import Finding, Replacement
from ultravect.core.model.layout import BLANKS, DelimitedLayout
from ultravect.core.words import counted

_ROW_NAMES = 200
_ROW_NAME_DELIMITERS = (BLANKS, " ", "\t")
"""Between values of tables that programs for statistics write: their rows have names, and the column of these has none."""


def open_delimited(file: SourceFile, layout: DelimitedLayout | None) -> DelimitedReader:
    """Opens a file, completes its layout and reads the names of its columns."""
    path = file.path
    with closing(file.open()) as stream:
        head = stream.read(HEAD_BYTES)
    if not head:
        raise file_empty(path, "is empty: it has no header and no rows")
    sniffed = sniff(head, layout or DelimitedLayout(), len(head) < HEAD_BYTES)
    whole = sniffed.layout
    text = head.decode(whole.encoding or "utf-8", "replace")
    opened = Opened(path, whole, dialect_of(whole), "\n" not in text and "\r" in text)
    with closing(file.open()) as stream:
        blocks = all_blocks(stream, opened)
        first = next((block for block in blocks if len(block.row_starts)), None)
    if first is None:
        after = f" after its {counted(whole.preamble, 'preamble line')}" if whole.preamble else ""
        raise file_empty(path, f"has no rows and no header{after}", "check layout.preamble" if after else "")
    row = cells(first, 0, whole)
    require_columns(path, len(row), "is layout.delimiter right?")
    findings: list[Finding] = []
    width = len(row)
    if whole.names is not None:
        # a header with fewer names than its rows have values is the reason to give names
        width = int(first.widths[1]) if whole.header and len(first.row_starts) > 1 else width
        if len(whole.names) != width - bool(whole.trailing and width > len(whole.names)):
            raise UltravectError(
                "layout-misfit",
                f"{path} has {counted(width, 'column')}, and layout.names has {len(whole.names)}",
                hint="give a name to each column, or check layout.delimiter",
                object=path,
                place="from.layout.names",
            )
        names, findings = unique_names(whole.names)
    elif whole.header:
        if whole.trailing and row and not row[-1].strip():
            row = row[:-1]
        names, findings = unique_names(row)
        findings += _short_header(first, names, whole)
        if any(found.code == "row-names-found" for found in findings):
            names, _ = unique_names(["row", *names])
            whole = whole.model_copy(update={"names": names})
    else:
        names = [f"column_{position}" for position in range(1, width + 1 - bool(whole.trailing))]
    return DelimitedReader(file, whole, opened, names, sniffed.findings + findings)


def _short_header(first: DelimitedBlock, names: list[str], layout: DelimitedLayout) -> list[Finding]:
    """That every row has one value more than the header has names: it may leave out the one of the row's own name."""
    widths = first.widths[1:]
    if layout.trailing or layout.ragged != "reject" or len(widths) < 2 or not (widths == len(names) + 1).all():
        return []
    better = ["row", *names]
    own = [row[0] for at in range(1, min(len(first.row_starts), _ROW_NAMES)) if (row := cells(first, at, layout))]
    if layout.delimiter in _ROW_NAME_DELIMITERS and len(set(own)) == len(own):
        message = f"every row has one value more than the header has names; the first is its own name, in column {better[0]}"
        return [Finding("note", "row-names-found", message, "from.layout")]
    return [
        Finding(
            "warning",
            "header-short",
            f"the header has {counted(len(names), 'name')}, and every row {counted(len(names) + 1, 'value')}",
            "from.layout",
            f"if the first value is the row's own name, write layout.names: [{', '.join(better)[:200]}]; or layout.trailing: true, "
            "if each row ends with a delimiter",
            Replacement("from.layout.names", better),
        )
    ]
