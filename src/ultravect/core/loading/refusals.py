"""Why a load does not go on, in words that are the same in every database."""

from __future__ import annotations

import secrets
from collections.abc import Sequence

from ultravect.core.contracts.load import COUNTED_ROWS, PREVIOUS, LoadOrder
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted


def previous_name() -> str:
    """A new name for the table in which an overwrite keeps what it replaces."""
    return f"{PREVIOUS}{secrets.token_hex(6)}"


def column_gone(order: LoadOrder, column: str) -> UltravectError:
    return UltravectError(
        "table-changed",
        f"{order.table} has no column {column!r} any more: it was changed since the run was planned; nothing was written",
        hint="run again: the plan is made anew",
        table=str(order.table),
        column=column,
    )


def table_changed(order: LoadOrder) -> UltravectError:
    """The table is another than the one for which rows were staged."""
    return UltravectError(
        "table-changed",
        f"{order.table} was changed while rows were staged for it; nothing was written",
        hint="run again: the plan is made anew",
        table=str(order.table),
    )


def waiting_message(order: LoadOrder, holders: str = "") -> str:
    """What a load says when another session's lock is in its way; ``holders``: whose, as far as is known."""
    whose = f"{holders} has locked {order.table}" if holders else f"another session holds a lock on {order.table}"
    return f"{whose}: waiting for it, up to {order.lock_seconds:g} s"


def require_empty(order: LoadOrder, rows: int | None) -> None:
    """Raises when the job wants an empty table and this one is not; ``rows`` None: more than are counted."""
    if order.only_if_empty and rows != 0:
        held = f"more than {COUNTED_ROWS:,} rows" if rows is None else counted(rows, "row")
        raise UltravectError(
            "target-not-empty",
            f"{order.table} holds {held}, and the job writes only into an empty table; nothing was written",
            hint="empty the table, or take into.only_if_empty out of the job",
            table=str(order.table),
        )


def attempt_replaced(order: LoadOrder) -> UltravectError:
    """Another attempt of the same run has barred this one: see ``Target.committed``."""
    return UltravectError(
        "attempt-replaced",
        f"another worker has taken this run over, so that this attempt may not write to {order.table} any more; "
        "nothing was written by it",
        hint="see what the attempt after it did",
        table=str(order.table),
    )


def key_written(keys: Sequence[str], example: Sequence[object]) -> str:
    """``(hut, day) = (007, 2026-07-01)``"""
    return f"({', '.join(keys)}) = ({', '.join(str(value) or repr(value) for value in example)})"


def key_repeated(order: LoadOrder, example: Sequence[object]) -> UltravectError:
    return UltravectError(
        "key-repeated",
        f"the rows for {order.table} have the key {key_written(order.keys, example)} more than once, and the job says repeats: fail; "
        "nothing was written",
        hint="fix the source, or write into.repeats: last or first to say which row wins",
        table=str(order.table),
    )


def key_not_unique(order: LoadOrder, example: Sequence[object]) -> UltravectError:
    return UltravectError(
        "key-not-unique",
        f"{order.table} has more than one row with the key {key_written(order.keys, example)}: which one to update is not known; "
        "nothing was written",
        hint="remove the duplicates from the table, or name more columns in into.keys",
        table=str(order.table),
    )


def outcome_unknown(connection: str, order: LoadOrder, what: str) -> UltravectError:
    """The session was lost in the middle of a commit; ``what`` names the kind of server."""
    return UltravectError(
        "outcome-unknown",
        f"connection {connection}: the connection was lost while the load into {order.table} was committed",
        hint=f"see whether the {what} is up, then run again: the receipt says whether it was committed",
        connection=connection,
    )
