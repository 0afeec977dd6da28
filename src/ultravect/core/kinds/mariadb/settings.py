"""Settings of the kind mariadb."""

from __future__ import annotations

from ultravect.core.model.connection import Port, ServerSettings


class MariadbSettings(ServerSettings):
    """A MariaDB or MySQL database."""

    port: Port = 3306
