"""The order of legs whose rows refer to each other."""

from __future__ import annotations

from collections.abc import Mapping
from graphlib import CycleError, TopologicalSorter


def in_order(count: int, parents: Mapping[int, set[int]]) -> list[int]:
    """All places from 0 to ``count``, each after its parents, otherwise as they are; references in a circle are left out."""
    left = {place: set(parents.get(place, ())) for place in range(count)}
    while True:
        sorter = TopologicalSorter(left)
        try:
            sorter.prepare()
        except CycleError as error:
            circle = error.args[1]
            # each is a parent of the next
            left[circle[1]].discard(circle[0])
            continue
        order: list[int] = []
        ready = sorted(sorter.get_ready())
        while ready:
            place = ready.pop(0)
            order.append(place)
            sorter.done(place)
            ready = sorted([*ready, *sorter.get_ready()])
        return order
