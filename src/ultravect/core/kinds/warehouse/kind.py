"""What the kind warehouse is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.warehouse.settings import WarehouseSettings

KIND = Kind(
    name="warehouse",
    holds="tables",
    settings=WarehouseSettings,
    opens="ultravect.core.kinds.warehouse.database:WarehouseDatabase",
    dialect="ultravect.core.kinds.warehouse.dialect:WarehouseDialect",
    more_dialects={"warehouse_stage": "ultravect.core.kinds.warehouse.stage_dialect:StageDialect"},
    borrows={"staging": "ultravect.core.kinds.warehouse.settings:with_staging"},
    needs={"psycopg": "psycopg[binary]"},
    usual_schema="public",
)
