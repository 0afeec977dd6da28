"""SQL dialects, one module each, registered here."""

from __future__ import annotations

from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.postgresql import PostgresqlDialect

DIALECTS: dict[str, Dialect] = {"postgresql": PostgresqlDialect()}
