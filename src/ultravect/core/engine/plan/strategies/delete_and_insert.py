"""The rows that are there are deleted and others inserted, in one transaction."""

from __future__ import annotations

from ultravect.core.engine.plan.strategies.situation import FILES, NOTHING_THERE, Situation

NAME = "delete and insert"
SUMMARY = "the old rows are deleted and the new ones inserted, in one transaction"


def obstacle(situation: Situation) -> str:
    """Why a load cannot be written so; "" where it can."""
    if situation.files:
        return FILES
    return "" if situation.replaces else NOTHING_THERE
