"""The Django app of the records."""

from django.apps import AppConfig
from psycopg_pool.base import AttemptWithBackoff


class RecordsConfig(AppConfig):
    """Named ``records`` in table names."""

    name = "ultravect.service.records"
    label = "records"

    def ready(self) -> None:
        # the pause between two tries of a pool doubles each time, to minutes, though the records may be back after a moment;
        # the library has no setting for it
        AttemptWithBackoff.INITIAL_DELAY = 0.5
        AttemptWithBackoff.DELAY_BACKOFF = 1.0
