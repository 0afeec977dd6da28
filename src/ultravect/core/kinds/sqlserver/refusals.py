"""What SQL Server's errors mean, by their numbers.

https://learn.microsoft.com/en-us/sql/relational-databases/errors-events/database-engine-events-and-errors
"""

from __future__ import annotations

from typing import Any

import pytds
from pytds import tds_base

from ultravect.core.errors import UltravectError

TAKEN = frozenset([2627, 2601])
ENDS_STATEMENT = TAKEN | {515, 547, 8152, 2628, 8115, 220, 50000}
"""What a row can be refused for, its statement undone and its transaction not: keys, NULLs, constraints, values that do not fit, triggers."""

REFUSED = ENDS_STATEMENT | {8114, 241, 242, 245, 295}
"""The same, and conversions that fail, which undo the transaction."""

LOCKED = 1222
DEADLOCK = 1205
_FIX_ROWS = "fix the source or the constraint, or tolerate such rows with into.rejects"
_LOOK = "check table and column names with `ultravect look`"
_CODES: dict[int, tuple[str, str]] = {
    2627: (
        "constraint-refused",
        "the rows break a unique constraint of the target: clear the old rows, or fix the source",
    ),
    2601: (
        "constraint-refused",
        "the rows break a unique index of the target: clear the old rows, or fix the source",
    ),
    547: ("constraint-refused", "load the rows first that these point to, or fix the source"),
    229: ("privilege-missing", "have the privilege granted to the connection's user"),
    230: ("privilege-missing", "have the privilege granted to the connection's user"),
    262: ("privilege-missing", "have the privilege granted to the connection's user"),
    297: ("privilege-missing", "have the privilege granted to the connection's user"),
    1088: ("privilege-missing", "IDENTITY_INSERT needs ALTER on the table: have it granted, or leave the column out"),
    4022: ("privilege-missing", "bulk loads need INSERT on the table: have it granted"),
    LOCKED: ("target-locked", "another session holds a lock on the table: run again when it is done"),
    DEADLOCK: ("deadlock", "another transaction was in the way, and the server ended this one: run again"),
    3960: ("deadlock", "another transaction changed the same rows: run again"),
    9002: ("target-full", "the transaction log is full: back it up, or give it more room"),
    1105: ("target-full", "the filegroup is full: free space in the database"),
    1101: ("target-full", "the filegroup is full: free space in the database"),
    3906: ("read-only", "the database takes no writes: it is read-only, or a secondary"),
    468: (
        "collation-conflict",
        "two columns that are compared have different collations: write COLLATE in the statement",
    ),
    208: ("question-refused", _LOOK),
    207: ("question-refused", _LOOK),
    102: ("question-refused", "check the statement; only one can be asked at a time"),
    156: ("question-refused", "check the statement; only one can be asked at a time"),
    195: ("question-refused", "check the statement"),
    3726: ("target-depended-on", "drop what depends on the table, or write into.if_different: widen"),
    1701: ("row-too-large", "a row of fixed widths may have 8,060 bytes: take variable types, or fewer columns"),
    1702: ("too-many-columns", "a table may have 1,024 columns"),
    **dict.fromkeys(
        (13536, 13537),
        ("column-generated", "the server writes the periods of a temporal table itself: leave these columns out"),
    ),
    **dict.fromkeys(
        (13545, 13552, 13559, 13560, 13561),
        (
            "table-keeps-history",
            "the server keeps the history of this table: switch SYSTEM_VERSIONING off first, or write in another way",
        ),
    ),
    911: ("unknown-database", "check database for typing errors"),
}
_SIGN_INS: dict[int, tuple[str, str, str]] = {
    18456: (
        "wrong-password",
        "the server refused the password of user {user!r}, or does not know the user",
        "set user and password of the connection anew",
    ),
    18486: ("account-locked", "user {user!r} is locked out after too many wrong passwords", "have it unlocked"),
    18487: (
        "password-expired",
        "the password of user {user!r} has expired",
        "change it, and set it in the connection",
    ),
    18488: (
        "password-expired",
        "the password of user {user!r} must be changed first",
        "change it, and set it in the connection",
    ),
    18452: ("not-admitted", "the server takes no user of its own", "switch on sign-in by password in the server"),
    4060: (
        "unknown-database",
        "there is no database {database!r}, or user {user!r} may not open it",
        "check database for typing errors",
    ),
    916: (
        "not-admitted",
        "user {user!r} may not use the database {database!r}",
        "have a user made there for this login",
    ),
    942: ("database-offline", "the database {database!r} is offline", "have it brought online"),
    978: (
        "not-admitted",
        "{database!r} is a replica for reading only",
        "set read_replica: true, or connect to the primary",
    ),
    17809: ("server-full", "the server has no free connection", "try later, or raise its limit"),
    10928: ("server-full", "the server has reached its limit of sessions", "try later"),
}


def number_of(error: BaseException) -> int:
    return int(getattr(error, "msg_no", 0) or 0)


def shown(error: BaseException) -> str:
    """The server's own text, without that of messages that only follow."""
    return str(getattr(error, "text", "") or (error.args[0] if error.args else error) or type(error).__name__)


def is_lost(error: BaseException) -> bool:
    """Whether the session is gone."""
    return isinstance(error, tds_base.ClosedConnectionError | OSError) or (
        isinstance(error, pytds.InterfaceError) and number_of(error) == 0
    )


def sign_in_refusal(numbers: list[int]) -> tuple[str, str, str] | None:
    """Code, detail and fix; the first that explains most: a database that is offline also fails the sign-in."""
    known = [number for number in numbers if number in _SIGN_INS]
    return _SIGN_INS[min(known, key=lambda number: number == 18456)] if known else None


def translate(error: Any, name: str, doing: str) -> UltravectError:
    """What a driver's error means for the user."""
    if isinstance(error, TimeoutError):
        return UltravectError(
            "time-limit",
            f"connection {name}: no answer in time, while {doing}",
            hint="ask for less, or raise the limit",
            connection=name,
        )
    if is_lost(error):
        return UltravectError(
            "connection-lost",
            f"connection {name}: the connection to the database was lost while {doing}",
            hint="see whether the database is up, then run again",
            connection=name,
        )
    number = number_of(error)
    usual = ("constraint-refused", _FIX_ROWS) if number in REFUSED else ("database-error", "")
    code, hint = _CODES.get(number, usual)
    return UltravectError(
        code, f"connection {name}, while {doing}: {shown(error)}", hint=hint, connection=name, errno=number
    )
