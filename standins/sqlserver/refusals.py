"""What SQL Server would say where PostgreSQL refuses: its number, its text and its severity."""

from __future__ import annotations

from typing import Any

import psycopg

from standins.sqlserver.tables import Refused
from standins.sqlserver.tokens import SyntaxFault

# https://learn.microsoft.com/en-us/sql/relational-databases/errors-events/database-engine-events-and-errors
_NUMBERS = {
    "23505": 2627, "23502": 515, "23503": 547, "23514": 547, "22001": 2628, "22003": 8115, "22P02": 245, "22007": 241, "22008": 242,
    "22012": 8134, "40P01": 1205, "55P03": 1222, "40001": 3960, "42P01": 208, "42703": 207, "42601": 102, "42501": 229, "53100": 9002,
    "42P07": 2714, "42701": 2705, "42883": 195, "42P22": 468, "42P21": 468, "42804": 206, "57014": 1222, "3F000": 2760, "42702": 209,
    "428C9": 271, "2BP01": 3726, "42P10": 1913, "42710": 2714,
    "TP536": 13536, "TP537": 13537, "TP545": 13545, "TP559": 13559,
}  # fmt: skip
_SEVERITY = {1205: 13, 9002: 17, 2627: 14, 2601: 14, 229: 14, 102: 15}


def refusal_of(error: Exception, session: psycopg.Connection[Any]) -> tuple[int, str, int]:
    if isinstance(error, Refused):
        return error.number, error.message, _SEVERITY.get(error.number, 16)
    if isinstance(error, SyntaxFault):
        return 102, str(error), 15
    assert isinstance(error, psycopg.Error)
    number = _NUMBERS.get(error.sqlstate or "", 50000)
    if number == 2627 and error.diag.schema_name == "pg_catalog":
        number = 2714  # two sessions made the same object at once
    shown = _text(number, error)
    return number, shown, _SEVERITY.get(number, 16)


def _text(number: int, error: psycopg.Error) -> str:
    said = error.diag
    table = ".".join(part for part in (said.schema_name, said.table_name) if part)
    detail = said.message_detail or ""
    match number:
        case 2627:
            value = detail.split("=(", 1)[-1].split(") ", 1)[0]
            return (
                f"Violation of UNIQUE KEY constraint '{said.constraint_name}'. Cannot insert duplicate key in object '{table}'. "
                f"The duplicate key value is ({value})."
            )
        case 515:
            return f"Cannot insert the value NULL into column '{said.column_name}', table '{table}'; column does not allow nulls. INSERT fails."
        case 547:
            return f'The INSERT statement conflicted with the constraint "{said.constraint_name}". The conflict occurred in table "{table}".'
        case 2628:
            return f"String or binary data would be truncated. {said.message_primary}"
        case 1205:
            return "Transaction was deadlocked on lock resources and has been chosen as the deadlock victim. Rerun the transaction."
        case 1222:
            return "Lock request time out period exceeded."
        case 208:
            return f"Invalid object name {(said.message_primary or '').split('relation ')[-1].split(' does')[0]}."
        case 207:
            return f"Invalid column name: {said.message_primary}"
        case 229:
            return f"The permission was denied: {said.message_primary}"
    return said.message_primary or str(error)
