"""Why a load does not go on, in words that are the same in every database."""

from __future__ import annotations

import secrets
from collections.abc import Sequence

from ultravect.core.contracts.mark import MarkKey
from ultravect.core.contracts.write_plan import COUNTED_ROWS, Attempt, WritePlan
from ultravect.core.contracts.write_session import PREVIOUS
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted


def doing_of(attempt: Attempt) -> str:
    """What a load does, as messages say it."""
    return f"loading {attempt.plan.source} into {attempt.plan.table}"


def previous_name() -> str:
    """A new name for the table in which an overwrite keeps what it replaces."""
    return f"{PREVIOUS}{secrets.token_hex(6)}"


def column_gone(plan: WritePlan, column: str) -> UltravectError:
    return UltravectError(
        "table-changed",
        f"{plan.table} has no column {column!r} any more: it was changed since the run was planned; nothing was written",
        hint="run again: the plan is made anew",
        table=str(plan.table),
        column=column,
    )


def table_changed(plan: WritePlan) -> UltravectError:
    """The table is another than the one for which rows were staged."""
    return UltravectError(
        "table-changed",
        f"{plan.table} was changed while rows were staged for it; nothing was written",
        hint="run again: the plan is made anew",
        table=str(plan.table),
    )


def waiting_message(plan: WritePlan, holders: str = "") -> str:
    """What a load says when another session's lock is in its way; ``holders``: whose, as far as is known."""
    whose = f"{holders} has locked {plan.table}" if holders else f"another session holds a lock on {plan.table}"
    return f"{whose}: waiting for it, up to {plan.lock_seconds:g} s"


def require_empty(plan: WritePlan, rows: int | None) -> None:
    """Raises where the table is not empty, which the job wants it to be; ``rows`` None: more than are counted."""
    if rows != 0:
        held = f"more than {COUNTED_ROWS:,} rows" if rows is None else counted(rows, "row")
        raise UltravectError(
            "target-not-empty",
            f"{plan.table} holds {held}, and the job writes only into an empty table; nothing was written",
            hint="empty the table, or take into.only_if_empty out of the job",
            table=str(plan.table),
        )


def attempt_replaced(plan: WritePlan) -> UltravectError:
    """Another attempt of the same run has barred this one: see ``Target.committed``."""
    return UltravectError(
        "attempt-replaced",
        f"another worker has taken this run over, so that this attempt may not write to {plan.table} any more; "
        "nothing was written by it",
        hint="see what the attempt after it did",
        table=str(plan.table),
    )


def key_written(keys: Sequence[str], example: Sequence[object]) -> str:
    """``(hut, day) = (007, 2026-07-01)``"""
    return f"({', '.join(keys)}) = ({', '.join(str(value) or repr(value) for value in example)})"


def key_repeated(plan: WritePlan, example: Sequence[object]) -> UltravectError:
    return UltravectError(
        "key-repeated",
        f"the rows for {plan.table} have the key {key_written(plan.keys, example)} more than once, and the job says repeats: fail; "
        "nothing was written",
        hint="fix the source, or write into.repeats: last or first to say which row wins",
        table=str(plan.table),
    )


def key_not_unique(plan: WritePlan, example: Sequence[object]) -> UltravectError:
    return UltravectError(
        "key-not-unique",
        f"{plan.table} has more than one row with the key {key_written(plan.keys, example)}: which one to update is not known; "
        "nothing was written",
        hint="remove the duplicates from the table, or name more columns in into.keys",
        table=str(plan.table),
    )


def outcome_unknown(connection: str, plan: WritePlan, what: str) -> UltravectError:
    """The session was lost in the middle of a commit; ``what`` names the kind of server."""
    return UltravectError(
        "outcome-unknown",
        f"connection {connection}: the connection was lost while the load into {plan.table} was committed",
        hint=f"see whether the {what} is up, then run again: the receipt says whether it was committed",
        connection=connection,
    )


def no_table(table: TableName) -> UltravectError:
    return UltravectError(
        "table-missing",
        f"{table} is not there yet: a mark says what was copied into it",
        hint="run the job first; from.newer.since says where a first run begins",
        table=str(table),
    )


def mark_moved(key: MarkKey) -> UltravectError:
    return UltravectError(
        "mark-moved",
        f"another run of job {key.job} has copied {key.object} since this one was planned; nothing was written",
        hint="run it again: it begins where that one has ended",
    )
