"""What a test of a connection tries for writing: the bucket from both sides, and a table in a transaction that is taken back."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager

from ultravect.core.contracts.probe import Step
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse import catalogue
from ultravect.core.kinds.warehouse.forms import Form
from ultravect.core.kinds.warehouse.kind import WarehouseSettings
from ultravect.core.kinds.warehouse.session import Session
from ultravect.core.kinds.warehouse.staged_files import staged_files


def write_steps(
    name: str, settings: WarehouseSettings, form: Form, opens: Callable[[str], AbstractContextManager[Session]]
) -> Sequence[Step]:
    """``opens`` gives a session; its argument completes "while …" in errors."""

    def stored() -> str:
        with staged_files(name, settings) as files:
            files.try_out()
            if listing := form.listing(files):
                with opens("looking for the staged file") as session:
                    if not session.rows(listing):
                        raise _stage_elsewhere(name, settings)
        return f"a file was stored in bucket {settings.bucket} and removed again"

    def written() -> str:
        dialect = form.dialect
        table = TableName(form.usual_schema, f"ultravect_test_{secrets.token_hex(6)}")
        with opens("creating a table") as session:
            session.execute("BEGIN TRANSACTION")
            session.execute(f"CREATE TABLE {dialect.table(table)} (a integer)")
            session.execute("ROLLBACK")
            if session.rows(catalogue.find(dialect, table, form.usual_schema)):
                session.execute(f"DROP TABLE {dialect.table(table)}")
                raise _keeps_definitions(name)
        return f"a table was created in {form.usual_schema} and taken back"

    return [Step("stage", stored), Step("write", written)]


def _stage_elsewhere(name: str, settings: WarehouseSettings) -> UltravectError:
    return UltravectError(
        "staging-refused",
        f"connection {name}: a file was stored in bucket {settings.bucket} under {settings.prefix}, and the warehouse does not see it "
        f"in its stage {settings.stage}",
        hint="the stage has to be of the same bucket and prefix",
        connection=name,
    )


def _keeps_definitions(name: str) -> UltravectError:
    return UltravectError(
        "definitions-not-undone",
        f"connection {name}: a table that was created in a transaction was still there after ROLLBACK: a load that fails would leave one",
        hint="create the tables yourself, and load into those",
        connection=name,
    )
