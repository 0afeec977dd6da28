"""Settings of the kind sqlite."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.model.connection import DatabaseFile, DatabaseFileSettings


class SqliteSettings(DatabaseFileSettings):
    """A SQLite database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/guestbook.db"])
