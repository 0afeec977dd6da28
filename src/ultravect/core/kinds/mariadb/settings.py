"""Settings of the kind mariadb."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.model.connection import (
    Certificate,
    DatabaseName,
    DatabaseSettings,
    Host,
    Port,
    Secret,
    Staging,
    Tls,
)


class MariadbSettings(DatabaseSettings):
    """A MariaDB or MySQL database."""

    host: Host
    port: Port = 3306
    database: DatabaseName
    user: str = Field(min_length=1)
    password: Secret = ""
    tls: Tls = "preferred"
    tls_ca: Certificate = ""
    staging: Staging = ""
