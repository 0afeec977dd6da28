"""Blocks of small files put together, so that thousands of them are parsed as few large blocks are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ultravect.core.layouts.base import FileSpan
from ultravect.core.layouts.delimited.blocks import DelimitedBlock


@dataclass(frozen=True)
class JoinedBlock(DelimitedBlock):
    """The rows of several files; ``starts`` and ``lines`` are where each begins in the block, and with which of its lines."""

    spans: tuple[FileSpan, ...] = ()
    starts: tuple[int, ...] = ()
    lines: tuple[int, ...] = ()

    def row_line(self, index: int) -> int:
        at = int(np.searchsorted([span.first_row for span in self.spans], index, side="right")) - 1
        before = np.searchsorted(self._newlines, [self.starts[at], self.row_starts[index]])
        return self.lines[at] + int(before[1] - before[0])


def joined(blocks: Sequence[DelimitedBlock]) -> DelimitedBlock:
    """One block of the rows of ``blocks``, each of which is all of its file."""
    if len(blocks) == 1:
        return blocks[0]
    newline = bytes([blocks[0].dialect.newline])
    parts = [block.data if block.data.endswith(newline) else block.data + newline for block in blocks]
    rows = np.cumsum([0, *(len(block.row_starts) for block in blocks)])
    starts = np.cumsum([0, *map(len, parts)])
    return JoinedBlock(
        f"{blocks[0].path} to {blocks[-1].path}",
        b"".join(parts),
        1,
        blocks[0].dialect,
        tuple(FileSpan(block.path, int(first)) for block, first in zip(blocks, rows, strict=False)),
        tuple(int(start) for start in starts[:-1]),
        tuple(block.line for block in blocks),
    )
