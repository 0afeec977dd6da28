"""What the kind sqlserver is: its settings, and what is opened with them."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import MACHINE, Port, ServerSettings


class SqlserverSettings(ServerSettings):
    """A SQL Server database."""

    port: Port = 1433
    instance: Annotated[
        str,
        Field(
            max_length=64,
            pattern=r"^[\w$#]*$",
            description="A named instance: its port is asked of the server's browser service, and port is not used.",
            json_schema_extra={**MACHINE},
        ),
    ] = ""
    read_replica: Annotated[
        bool,
        Field(
            description="Whether rows are read from a readable secondary, where the server has one (application intent read-only)."
        ),
    ] = False


KIND = Kind(
    name="sqlserver",
    holds="tables",
    settings=SqlserverSettings,
    opens="ultravect.core.kinds.sqlserver.database:SqlserverDatabase",
    dialect="ultravect.core.kinds.sqlserver.dialect:SqlserverDialect",
    needs={"pytds": "python-tds", "OpenSSL": "pyOpenSSL", "service_identity": "service-identity"},
    usual_schema="dbo",
)
