"""Sessions of DuckDB in which versions of lake tables are views: what a question or a select names is opened, and nothing else."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

import duckdb

from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.table_version import BETWEEN, TableVersion, split_version

_CONFIG: dict[str, str | bool | int | float | list[str]] = {
    # a question must not read files, nor the network: tables are opened here, and handed over
    "enable_external_access": "false",
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "allow_community_extensions": "false",
    "lock_configuration": "true",
}


_SCRATCH_MEMORY = "256MB"
_PART = r'(?:"(?:[^"]|"")*"|[^\s".]+)'
_NAME = re.compile(rf"{_PART}(?:\.{_PART})*")


def connected(spill: str = "") -> duckdb.DuckDBPyConnection:
    """A session without tables; ``spill``: a folder for what does not fit into little memory."""
    scratch: dict[str, str | bool | int | float | list[str]] = {
        "temp_directory": spill,
        "memory_limit": _SCRATCH_MEMORY,
    }
    return duckdb.connect(":memory:", config={**_CONFIG, **(scratch if spill else {})})


@contextmanager
def session_for(
    place: LakePlace, dialect: Dialect, sql: str, doing: str, at: str = ""
) -> Iterator[duckdb.DuckDBPyConnection]:
    """A session that knows the tables which ``sql`` names, in the version ``at``; "": the newest, or the one that is named with them."""
    session = connected()
    try:
        with errors_explained(place.name, doing), explained(place.name, "the lake"):
            found = {_without_alias(name) for name in session.get_table_names(sql, qualified=True)}
            named = [dialect.parse_table(name) for name in sorted(found)]
            # a version may have files of its own on this machine, which last as long as it does
            shown = [show_table(session, place, dialect, table, at) for table in named]
            yield session
            del shown
    finally:
        session.close()


def _without_alias(name: str) -> str:
    """A name as DuckDB lists it, which has the alias of the statement after it: ``raw.visit AS v``."""
    found = _NAME.match(name)
    return found[0] if found else name


def show_table(
    session: duckdb.DuckDBPyConnection, place: LakePlace, dialect: Dialect, table: TableName, version_at: str = ""
) -> TableVersion | None:
    """Makes a view of a table, if there is one, and gives its version."""
    name, at = split_version(table.name)
    path = place.path(TableName(table.schema, name))
    older, between, newer = (at or version_at).rpartition(BETWEEN)
    version = open_version(place, path, newer)
    if version is None:
        return None
    with explained("the lake", version.path):
        dataset = version.since(int(older)).dataset if between else version.dataset
    held = dialect.quote(f"ultravect {table}")
    session.register(f"ultravect {table}", dataset)
    if table.schema:
        session.execute(f"CREATE SCHEMA IF NOT EXISTS {dialect.quote(table.schema)}")
    session.execute(f"CREATE VIEW {dialect.table(table)} AS SELECT * FROM {held}")
    return version


@contextmanager
def errors_explained(connection: str, doing: str) -> Iterator[None]:
    """DuckDB's errors, as ours."""
    try:
        yield
    except duckdb.Error as error:
        text = str(error).splitlines()[0]
        code, hint = "database-error", "check table and column names with `ultravect look`"
        if isinstance(error, duckdb.ConstraintException):
            code, hint = "constraint-refused", "fix the source, or tolerate such rows with into.rejects"
        elif isinstance(error, duckdb.InterruptException):
            code, hint = "time-limit", "ask for less, or raise the limit"
        elif isinstance(error, duckdb.PermissionException):
            code, hint = "read-only", "questions may only read"
        elif "No space left" in text:
            code, hint = "target-full", "free disk space on the service's machine"
        elif isinstance(error, duckdb.ParserException | duckdb.BinderException | duckdb.CatalogException):
            code = "question-refused"
        raise UltravectError(
            code, f"connection {connection}, while {doing}: {text}", hint=hint, connection=connection
        ) from None
