"""Divides the rows of a table by values of its key."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.source import Source

_SECONDS = 60.0
# of which a value finds its place in SQL text, and in an index
_ORDERED = frozenset(["smallint", "integer", "bigint", "date"])


def ranges(cuts: Sequence[str], expression: str) -> list[str]:
    """Conditions on ``expression`` between these values, which rise; none where there is no cut."""
    if not cuts:
        return []
    between = [f"{expression} >= {low} AND {expression} < {high}" for low, high in pairwise(cuts)]
    return [f"{expression} < {cuts[0]}", *between, f"{expression} >= {cuts[-1]}"]


def key_ranges(source: Source, table: LiveTable, count: int) -> list[str]:
    """Conditions on the first column of the primary key, if it is a whole number or a date: its values are looked up in the index."""
    key = next((column for column in table.columns if column.key), None)
    if key is None or key.type is None or key.type.name not in _ORDERED or key.nullable:
        return []
    dialect = source.dialect
    name, held = dialect.quote(key.name), dialect.table(table.name)
    rows = int(source.ask(f"SELECT count(*) FROM {held}", 1, _SECONDS).rows[0][0])
    cuts: list[str] = []
    for number in range(1, count):
        asked = dialect.first_rows(f"SELECT {name} FROM {held} ORDER BY {name}", 1, skip=rows * number // count)
        found = source.ask(asked, 1, _SECONDS).rows
        cuts += [dialect.constant(str(found[0][0]), key.type)] if found else []
    return ranges(list(dict.fromkeys(cuts)), name)
