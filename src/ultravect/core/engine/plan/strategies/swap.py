"""A new table is filled, and takes the place of the one that is there."""

from __future__ import annotations

from ultravect.core.engine.plan.strategies.situation import FILES, NOTHING_THERE, Situation

NAME = "swap"
SUMMARY = "a new table is filled and takes the place of the old one when the load commits"


def obstacle(situation: Situation) -> str:
    """Why a load cannot be written so; "" where it can."""
    if situation.files:
        return FILES
    if not situation.replaces or situation.live is None:
        return NOTHING_THERE
    if situation.is_new:
        return ""  # it has other columns
    if situation.part:
        return "only a part of the rows is replaced"
    if situation.truncates:
        return "the job takes the old rows away at once (into.old_rows: truncate)"
    return situation.swap_obstacle(situation.live)
