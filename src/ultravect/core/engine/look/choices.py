"""The types that a column of a new table may be given, each with what it becomes there and its fit."""

from __future__ import annotations

from typing import Any

from ultravect.core.dialects.base import Dialect
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.types.canonical import NAMES, CanonicalType, Fit
from ultravect.core.types.pairs import pair_fit

_ORDER = list(Fit)


def type_choices(column: ColumnPlan, dialect: Dialect) -> list[dict[str, Any]]:
    """``type``, ``native``, ``fit`` and ``change`` of each, the ones that change least first."""
    source = column.origin or column.type
    found = []
    for kind in dict.fromkeys([source, *map(CanonicalType, NAMES)]):
        if kind.name == source.name and kind != source:
            continue  # the source's own length or digits say more
        pair = pair_fit(source, kind)
        if pair is None:
            continue
        translation = dialect.from_canonical(kind)
        fit = max(pair[0], translation.fit, key=_ORDER.index)
        change = "; ".join(part for part in (pair[1], translation.change) if part)
        found.append({"type": str(kind), "native": translation.native, "fit": str(fit), "change": change})
    return sorted(found, key=lambda item: _ORDER.index(Fit(item["fit"])))
