"""The two forms in which warehouses load from storage and write to it: by a manifest of addresses, and by a named stage."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from ultravect.core.contracts.catalogue import PRIVILEGES
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.kinds.warehouse.dialect import WarehouseDialect
from ultravect.core.kinds.warehouse.kind import WarehouseSettings
from ultravect.core.kinds.warehouse.stage_dialect import StageDialect
from ultravect.core.kinds.warehouse.staged_files import PART, StagedFiles, Unloaded, access
from ultravect.core.types.canonical import CanonicalType

_FILES_A_COPY = 1000


class Form(Protocol):
    """What a form says in its own way. All methods give statements, and run none."""

    dialect: Dialect
    usual_schema: str
    arranges: frozenset[str]
    opening: Sequence[str]
    """What a session begins with."""

    reading: str
    """Begins a transaction that only reads."""

    def shown(self, table: TableName) -> str:
        """The name of a table, as ``parse_table`` reads it again."""

    def limited(self, seconds: float) -> str:
        """Limits the time of each statement that follows."""

    def privileges(self, table: str) -> str:
        """Asks for a row of truth values: what the user may do with a table, whose name is quoted, in the order of PRIVILEGES."""

    def schema(self, schema: str) -> str:
        """Asks whether the user may create tables in a schema: no row where there is no such schema."""

    def copy(self, table: str, columns: Mapping[str, tuple[str, CanonicalType]], files: StagedFiles) -> Sequence[str]:
        """Brings the rows of the files into a table; ``columns`` are its columns in order, by their native and canonical types."""

    def unload(self, query: str, files: StagedFiles) -> str:
        """Writes the rows of a query as Parquet files."""

    def unloaded(self, answer: Sequence[Sequence[Any]], files: StagedFiles) -> Sequence[Unloaded]:
        """Which files it has written, from its answer to ``unload``, or from what it leaves next to them."""

    def listing(self, files: StagedFiles) -> str:
        """Asks for what the warehouse itself sees in the folder; "" where there is no such question."""


class ManifestForm:
    """``COPY … FROM`` a manifest in the bucket, by its address; see ``Form``."""

    usual_schema = "public"
    arranges = frozenset({"sort_by", "distribute_by", "encode"})
    opening: Sequence[str] = ("SET timezone = 'UTC'",)
    reading = "BEGIN READ ONLY"

    def __init__(self, settings: WarehouseSettings) -> None:
        self._settings = settings
        self.dialect: Dialect = WarehouseDialect()

    def shown(self, table: TableName) -> str:
        return str(table)

    def limited(self, seconds: float) -> str:
        return f"SET statement_timeout = {int(seconds * 1000)}"

    def privileges(self, table: str) -> str:
        literal = self.dialect.literal
        asked = (f"has_table_privilege({literal(table)}, {literal(name)})" for name in sorted(PRIVILEGES))
        return f"SELECT {', '.join(asked)}"

    def schema(self, schema: str) -> str:
        name = self.dialect.literal(schema)
        return f"SELECT has_schema_privilege({name}, 'CREATE') FROM pg_namespace WHERE nspname = {name}"

    def copy(self, table: str, columns: Mapping[str, tuple[str, CanonicalType]], files: StagedFiles) -> Sequence[str]:
        literal, manifest = self.dialect.literal, files.store_manifest()
        return [
            f"COPY {table} FROM {literal(manifest)} {access(self._settings, literal)} "
            f"REGION {literal(self._settings.region)} FORMAT AS PARQUET MANIFEST"
        ]

    def unload(self, query: str, files: StagedFiles) -> str:
        literal = self.dialect.literal
        return (
            f"UNLOAD ({literal(query)}) TO {literal(files.url(PART))} {access(self._settings, literal)} "
            f"REGION {literal(self._settings.region)} FORMAT AS PARQUET MANIFEST VERBOSE"
        )

    def unloaded(self, answer: Sequence[Sequence[Any]], files: StagedFiles) -> Sequence[Unloaded]:
        return files.unloaded_manifest()

    def listing(self, files: StagedFiles) -> str:
        return ""


class StageForm:
    """``COPY INTO`` from a named stage, which the warehouse has been given the bucket by; see ``Form``."""

    usual_schema = "PUBLIC"
    arranges = frozenset({"sort_by"})
    opening: Sequence[str] = ("ALTER SESSION SET TIMEZONE = 'UTC'",)
    reading = "BEGIN TRANSACTION"

    def __init__(self, settings: WarehouseSettings) -> None:
        self._stage = settings.stage
        self._dialect = StageDialect()
        self.dialect: Dialect = self._dialect

    def shown(self, table: TableName) -> str:
        return ".".join(self._dialect.shown(part) for part in (table.schema, table.name) if part)

    def limited(self, seconds: float) -> str:
        return f"ALTER SESSION SET STATEMENT_TIMEOUT_IN_SECONDS = {max(int(seconds), 1)}"

    def privileges(self, table: str) -> str:
        # what its roles may do is answered by each statement alone
        return f"SELECT {', '.join('TRUE' for _ in PRIVILEGES)}"

    def schema(self, schema: str) -> str:
        return f"SELECT TRUE FROM information_schema.schemata WHERE schema_name = {self._dialect.literal(schema)}"

    def copy(self, table: str, columns: Mapping[str, tuple[str, CanonicalType]], files: StagedFiles) -> Sequence[str]:
        literal, quote = self._dialect.literal, self._dialect.quote
        # the number of the row is a name without quotes in all statements
        names = ", ".join(name if name == ROW else quote(name) for name in columns)
        values = ", ".join(self._dialect.staged(quote(name), *types) for name, types in columns.items())
        statements = []
        for start in range(0, len(files.names), _FILES_A_COPY):
            listed = ", ".join(map(literal, files.names[start : start + _FILES_A_COPY]))
            statements.append(
                f"COPY INTO {table} ({names}) FROM (SELECT {values} FROM {self._place(files)}) FILES = ({listed}) "
                "FILE_FORMAT = (TYPE = PARQUET) ON_ERROR = ABORT_STATEMENT"
            )
        return statements

    def unload(self, query: str, files: StagedFiles) -> str:
        return (
            f"COPY INTO {self._place(files)}{PART} FROM ({query}) FILE_FORMAT = (TYPE = PARQUET) HEADER = TRUE "
            "DETAILED_OUTPUT = TRUE"
        )

    def unloaded(self, answer: Sequence[Sequence[Any]], files: StagedFiles) -> Sequence[Unloaded]:
        # a row for each file: its name, its size, and its rows
        return [files.unloaded(str(name), int(rows), int(size)) for name, size, rows in answer if int(rows)]

    def listing(self, files: StagedFiles) -> str:
        return f"LIST {self._place(files)}"

    def _place(self, files: StagedFiles) -> str:
        return f"@{self._stage}/{files.folder}/"


def form_of(settings: WarehouseSettings) -> Form:
    return StageForm(settings) if settings.form == "stage" else ManifestForm(settings)
