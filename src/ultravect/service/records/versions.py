"""Saves what is kept under a name, in versions."""

from __future__ import annotations

from typing import Any, TypeVar

from django.db import transaction

from ultravect.service.records.models import Named, User, Version

N = TypeVar("N", bound=Named)


@transaction.atomic
def save_version(
    kind: type[N], versions: type[Version], of: str, name: str, text: str, structure: dict[str, Any], user: User
) -> tuple[N, bool, int | None]:
    """Saves a text as the newest of ``versions``, which name what they are of by the field ``of``.

    Gives the record, whether it is new or was deleted before, and the number of the new version; None where the text is the same.
    """
    record, created = kind._default_manager.select_for_update().get_or_create(name=name)
    revived = record.deleted_at is not None
    if revived:
        record.deleted_at = None
        record.save()
    newest = versions._default_manager.filter(**{of: record}).order_by("-number").first()
    if newest is not None and newest.text == text:
        return record, created or revived, None
    number = newest.number + 1 if newest else 1
    versions._default_manager.create(**{of: record}, number=number, text=text, structure=structure, saved_by=user)
    return record, created or revived, number
