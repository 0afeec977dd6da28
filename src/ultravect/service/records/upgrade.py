"""Brings the records up to date with the program: one process at a time, and never back."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import structlog
from django.core.exceptions import ImproperlyConfigured
from django.core.management import call_command
from django.db import connections
from django.db.migrations.executor import MigrationExecutor

log = structlog.get_logger()
UPGRADE_LOCK = 0x756C7472
"""The number of the advisory lock that is held during an upgrade; no one else uses it."""


@contextmanager
def alone() -> Iterator[None]:
    """Other processes that start at the same moment wait here until the first is ready."""
    connection = connections.create_connection("default")
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [UPGRADE_LOCK])
        if not cursor.fetchone()[0]:
            log.info("another process brings the records up to date: waiting for it")
            cursor.execute("SELECT pg_advisory_lock(%s)", [UPGRADE_LOCK])
        try:
            yield
        finally:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [UPGRADE_LOCK])
            connection.close()


def upgrade() -> None:
    """ImproperlyConfigured where the records are of a newer version than this program."""
    executor = MigrationExecutor(connections["default"])
    loader = executor.loader
    newer = sorted(
        name
        for app, name in loader.applied_migrations
        if app == "records" and (app, name) not in loader.disk_migrations
    )
    if newer:
        raise ImproperlyConfigured(
            f"the records are of a newer version than this program (they have {newer[-1]}): start that version, or restore a backup "
            "that was made before the upgrade"
        )
    # the command looks at much else, which takes a second
    if executor.migration_plan(loader.graph.leaf_nodes()):
        call_command("migrate", interactive=False, verbosity=0)
        # what an earlier version has left under way, by ways that are no more
        from ultravect.service.work.runs.transitions import adopt

        adopt()
