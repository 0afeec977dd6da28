"""What the kind lake is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.lake.settings import LakeSettings

KIND = Kind(
    name="lake",
    holds="tables",
    settings=LakeSettings,
    opens="ultravect.core.kinds.lake.database:LakeDatabase",
    dialect="ultravect.core.kinds.lake.dialect:LakeDialect",
    more_dialects={"iceberg": "ultravect.core.kinds.lake.dialect:IcebergDialect"},
    needs={"deltalake": "deltalake", "duckdb": "duckdb"},
)
