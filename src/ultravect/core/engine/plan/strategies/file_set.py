"""Files are written on the worker, and then put in their place."""

from __future__ import annotations

from ultravect.core.engine.plan.strategies.situation import Situation

NAME = "file set"
SUMMARY = "files are written on the worker, counted, and put in their place"


def obstacle(situation: Situation) -> str:
    """Why a load cannot be written so; "" where it can."""
    return "" if situation.files else "the target is a table"
