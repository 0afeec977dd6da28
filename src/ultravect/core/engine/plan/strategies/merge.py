"""Rows stand in a staging table first, and are then brought into the table by statements."""

from __future__ import annotations

from ultravect.core.engine.plan.strategies.situation import FILES, Situation

NAME = "merge"
SUMMARY = "rows stand in a staging table first, and are brought into the table by a few statements"


def obstacle(situation: Situation) -> str:
    """Why a load cannot be written so; "" where it can."""
    return FILES if situation.files else ""
