"""Rows go straight into the table, in the transaction that publishes them."""

from __future__ import annotations

from ultravect.core.engine.plan.strategies.situation import FILES, Situation

NAME = "direct"
SUMMARY = "rows go straight into the table, and are seen when the load commits"


def obstacle(situation: Situation) -> str:
    """Why a load cannot be written so; "" where it can."""
    if situation.files:
        return FILES
    if situation.mode == "upsert":
        return "rows have to be matched by their keys first"
    if situation.replaces:
        return "the rows that are there have to go"
    if situation.keyed:
        return "rows with keys stand in a staging table first, where a key that comes twice is found"
    if situation.changes_table:
        return "the table is changed before rows go into it, and they wait in a staging table"
    return ""
