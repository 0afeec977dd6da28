"""What the kind tablebox is."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import DatabaseFileSettings

KIND = Kind(
    name="tablebox",
    holds="tables",
    settings=DatabaseFileSettings,
    opens="ultravect_tablebox.database:TableboxDatabase",
    dialect="ultravect_tablebox.database:TableboxDialect",
)
