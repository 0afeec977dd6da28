"""The Django app of the records."""

from django.apps import AppConfig


class RecordsConfig(AppConfig):
    """Named ``records`` in table names."""

    name = "ultravect.service.records"
    label = "records"
