"""Picks single rows of a source: those that an earlier run rejected."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Protocol

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import Reader


class RowSelection(Protocol):
    """Which rows of a source are copied."""

    def ask(self, reader: Reader) -> None:
        """Has a source that can find rows give only these. Raises where they cannot be found in it."""

    def keep(self, shaped: Shaped) -> Shaped:
        """Of a block, only the rows that are picked; the others count as not read."""

    def missed(self, found: int) -> str:
        """What there is to say of rows that were not found again, "" for nothing. Raises when that must not be."""


class SelectionByRows:
    """``rows`` are numbers from 1, by the path of their file."""

    def __init__(self, rows: Mapping[str, Iterable[int]]) -> None:
        self._rows: dict[str, npt.NDArray[np.int64]] = {
            path: np.unique(np.fromiter(numbers, np.int64)) for path, numbers in rows.items()
        }

    def ask(self, reader: Reader) -> None:
        """Files are read from their beginning: what comes before says where a row is."""

    def keep(self, shaped: Shaped) -> Shaped:
        every = self._rows.get(shaped.path, np.empty(0, np.int64))
        picked = every[(every > shaped.before) & (every <= shaped.before + shaped.rows)]
        mask = np.isin(shaped.before + shaped.index + 1, picked)
        rejects = [reject for reject in shaped.rejects if reject.row in picked]
        filtered = len(picked) - int(mask.sum()) - len(rejects)
        batch = shaped.batch.filter(pa.array(mask))
        return replace(
            shaped,
            rows=len(picked),
            batch=batch,
            rejects=rejects,
            filtered=filtered,
            index=shaped.index[mask],
        )

    def missed(self, found: int) -> str:
        count = sum(map(len, self._rows.values()))
        if found != count:
            raise _gone(
                f"of the {count:,} rejected rows, {found:,} were found again at their places",
                "the files were replaced or shortened, or the job reads others: run the job itself",
            )
        return ""


class SelectionByKeys:
    """``keys`` are those of rows of a table, as ``Reject.key`` has them."""

    def __init__(self, keys: Sequence[str]) -> None:
        self._keys: list[dict[str, str]] = [json.loads(key) for key in dict.fromkeys(keys)]

    def ask(self, reader: Reader) -> None:
        names = list(self._keys[0])
        if not isinstance(reader, TableRows) or list(reader.keys) != names:
            raise _gone(
                f"the rejected rows are known by {', '.join(names)}, which is not the primary key of what the job reads now",
                "run the job itself",
            )
        reader.require_keys(self._keys)

    def keep(self, shaped: Shaped) -> Shaped:
        return shaped

    def missed(self, found: int) -> str:
        count = len(self._keys)
        if not found:
            raise _gone(
                f"none of the {count:,} rejected rows is in the table any more, or from.where leaves them all out",
                "nothing is left to be loaded",
            )
        missing = count - found
        return f"{missing:,} of the {count:,} rejected rows are no longer there, or left out" if missing else ""


def _gone(what: str, hint: str) -> UltravectError:
    return UltravectError("rejects-gone", f"{what}; nothing was written", hint=hint)
