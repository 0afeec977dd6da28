"""What the kind sqlserver is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.sqlserver.settings import SqlserverSettings

KIND = Kind(
    name="sqlserver",
    holds="tables",
    settings=SqlserverSettings,
    opens="ultravect.core.kinds.sqlserver.database:SqlserverDatabase",
    dialect="ultravect.core.kinds.sqlserver.dialect:SqlserverDialect",
    needs={"pytds": "python-tds", "OpenSSL": "pyOpenSSL", "service_identity": "service-identity"},
    usual_schema="dbo",
)
