"""What the kind mariadb is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.mariadb.settings import MariadbSettings

KIND = Kind(
    name="mariadb",
    holds="tables",
    settings=MariadbSettings,
    opens="ultravect.core.kinds.mariadb.database:MariadbDatabase",
    dialect="ultravect.core.kinds.mariadb.dialect:MariadbDialect",
    needs={"MySQLdb": "mysqlclient"},
)
