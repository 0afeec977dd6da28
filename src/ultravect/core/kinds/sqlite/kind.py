"""What the kind sqlite is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.sqlite.settings import SqliteSettings

KIND = Kind(
    name="sqlite",
    holds="tables",
    settings=SqliteSettings,
    opens="ultravect.core.kinds.sqlite.database:SqliteDatabase",
    dialect="ultravect.core.kinds.sqlite.dialect:SqliteDialect",
    usual_schema="main",
)
