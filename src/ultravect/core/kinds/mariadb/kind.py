"""What the kind mariadb is: its settings, and what is opened with them."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import Port, ServerSettings


class MariadbSettings(ServerSettings):
    """A MariaDB or MySQL database."""

    port: Port = 3306


KIND = Kind(
    name="mariadb",
    holds="tables",
    settings=MariadbSettings,
    opens="ultravect.core.kinds.mariadb.database:MariadbDatabase",
    dialect="ultravect.core.kinds.mariadb.dialect:MariadbDialect",
    needs={"MySQLdb": "mysqlclient"},
)
