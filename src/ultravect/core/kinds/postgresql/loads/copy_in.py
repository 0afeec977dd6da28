"""Sends rows into a table by COPY: binary where each column's type has a binary form here, otherwise as text."""

from __future__ import annotations

import select
from collections.abc import Callable, Sequence
from functools import partial

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.dialects.base import Dialect, NewColumn
from ultravect.core.kinds.postgresql.catalogue import Session
from ultravect.core.kinds.postgresql.loads.binary_copy import HEADER, TRAILER, RowEncoder, encoding_for
from ultravect.core.loading.text_lines import tabbed_lines


class CopyIn:
    """A COPY under way into ``table``, whose ``columns`` batches have; ``freeze``: see FREEZE of COPY; ``binary``: whether there is such a form."""

    def __init__(
        self,
        session: Session,
        dialect: Dialect,
        table: LiveTable,
        columns: Sequence[NewColumn],
        *,
        freeze: bool,
        binary: bool = True,
    ) -> None:
        self._session = session
        self._encode, (header, self._trailer) = _encoder(table, columns, binary=binary)
        names = ", ".join(dialect.quote(column.name) for column in columns)
        options = (["FORMAT binary"] if header else []) + (["FREEZE"] if freeze else [])
        form = f" ({', '.join(options)})" if options else ""
        self._cursor = session.cursor()
        self._copying = self._cursor.copy(f"COPY {dialect.table(table.name)} ({names}) FROM STDIN{form}".encode())
        self._copy = self._copying.__enter__()
        if header:
            self._copy.write(header)

    def write(self, batch: pa.RecordBatch) -> None:
        self._copy.write(self._encode(batch))
        if select.select([self._session.pgconn.socket], [], [], 0)[0]:
            # the server only says something in the middle of a COPY when it refuses a row
            self._copying.__exit__(None, None, None)

    def end(self) -> int:
        """How many rows the server took."""
        if self._trailer:
            self._copy.write(self._trailer)
        self._copying.__exit__(None, None, None)
        return self._cursor.rowcount


def _encoder(
    table: LiveTable, columns: Sequence[NewColumn], *, binary: bool
) -> tuple[Callable[[pa.RecordBatch], pa.Buffer], tuple[bytes, bytes]]:
    """What encodes batches, and what comes before the first and after the last of them."""
    encoders = []
    for column in columns:
        live = table.column(column.name)
        encoders.append(encoding_for(live.base, column.type.arrow) if live else None)
    known = [encoder for encoder in encoders if encoder is not None]
    if not binary or len(known) < len(columns):
        return partial(tabbed_lines, bytes_mark="\\\\x"), (b"", b"")
    return RowEncoder(known).encode, (HEADER, TRAILER)
