"""What decides how a load is written."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.load import Mode

FILES, NOTHING_THERE = "the target is files", "there is nothing to be replaced"
"""Reasons that a reader knows without being given them."""


@dataclass(frozen=True)
class Situation:
    """``live``: the table that is there. ``is_new``: the plan makes the table, or another in its place. ``part``: an overwrite
    replaces only some of its rows.

    ``swap_obstacle`` asks the target why another table may not take the place of the one that is there, "" where it may.
    """

    mode: Mode
    files: bool
    keyed: bool
    is_new: bool
    changes_table: bool
    live: LiveTable | None
    truncates: bool
    part: bool
    swap_obstacle: Callable[[LiveTable], str]

    @property
    def replaces(self) -> bool:
        """Whether rows that are there have to go."""
        return self.mode == "overwrite" and self.live is not None
