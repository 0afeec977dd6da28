"""What a server that speaks PostgreSQL's protocol can do: its relatives lack some of it, and are found by trying."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import psycopg

from ultravect.core.contracts.catalogue import Remark
from ultravect.core.kinds.postgresql.catalogue import Session

# "feature not supported" and its kin, syntax errors, what is not there, and statements that are not known at all
_LACKING = ("0A", "42", "XX")
_NOT_ALLOWED = "42501"
_VERSIONS = "SELECT xmin, pg_current_xact_id()::text FROM pg_catalog.pg_class LIMIT 1"
_COPY = "COPY (SELECT 1) TO STDOUT (FORMAT binary)"
_BOTH = f"COPY ({_VERSIONS}) TO STDOUT (FORMAT binary)"
_TEMPORARY = "CREATE TEMPORARY TABLE ultravect_probe (a integer) ON COMMIT DROP"


@dataclass(frozen=True)
class Abilities:
    """``binary_copy``: COPY takes and gives its binary format; ``row_versions``: rows say which transaction wrote them;
    ``temporary``: a session can have tables of its own."""

    binary_copy: bool = True
    row_versions: bool = True
    temporary: bool = True

    @property
    def complete(self) -> bool:
        """Whether loads may do as in PostgreSQL itself, but for the form of the rows."""
        return self.row_versions and self.temporary

    @property
    def all(self) -> bool:
        return self.complete and self.binary_copy

    def remarks(self) -> Sequence[Remark]:
        found = []
        if not self.binary_copy:
            found.append("rows travel as text, since COPY has no binary format here")
        if not self.row_versions:
            found.append(
                "written rows are counted by the table's growth, since rows do not say which transaction wrote them"
            )
        if not self.temporary:
            found.append("rows are staged in an ordinary table, since there are no temporary ones")
        if not self.complete:
            found.append("a row that the database refuses ends the load")
        if self.all:
            return ()
        found.append("loads are not cut into slices, and not published together")
        what = f"the server is a relative of PostgreSQL: {'; '.join(found)}"
        return (Remark("server-lacks", what, "nothing has to be done; loads take longer"),)


def find_abilities(session: Session) -> Abilities:
    """Tries what may be missing, each in a transaction that is taken back. The session must be in none."""
    both = _takes(session, _BOTH)
    return Abilities(
        binary_copy=both or _takes(session, _COPY),
        row_versions=both or _takes(session, _VERSIONS),
        temporary=_takes(session, _TEMPORARY),
    )


def _takes(session: Session, statement: str) -> bool:
    try:
        if statement.startswith("COPY"):
            with session.cursor().copy(statement.encode()) as copying:
                for _ in copying:
                    pass
        else:
            session.execute(statement.encode())
    except psycopg.Error as error:
        return not is_lacking(error)
    finally:
        session.rollback()
    return True


def is_lacking(error: psycopg.Error) -> bool:
    """What it may not do is another matter, and a connection that is lost says nothing."""
    state = error.sqlstate or ""
    if not state:
        raise error
    return state.startswith(_LACKING) and state != _NOT_ALLOWED
