"""Connections, with their sealed secrets."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from django.conf import settings
from django.db import models
from pydantic import ValidationError

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.keys import keys_named
from ultravect.core.engine.objects.secrets import SecretPlaces, keys_for, with_secrets
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import borrowed, settings_of
from ultravect.core.model.base import Declared
from ultravect.core.model.connection import moved_secrets, secret_keys
from ultravect.service.sealing import SealBroken

UPLOADS_NAME = "uploads"


class SecretsNeeded(Exception):
    """``keys`` must be given anew, because ``moved`` settings now lead to another place."""

    def __init__(self, keys: list[str], moved: list[str]) -> None:
        super().__init__()
        self.keys, self.moved = keys, moved


class Connection(models.Model):
    """A named place; its secret settings are sealed apart from the others."""

    name = models.CharField(max_length=64, unique=True)
    kind = models.CharField(max_length=32)
    settings = models.JSONField(default=dict)
    sealed = models.TextField(blank=True, default="")
    site = models.CharField(max_length=40, blank=True, default="")
    """The network location whose workers reach it; "" where all do, or where it is one of local paths: see ``sites``."""

    at_most = models.PositiveIntegerField(null=True)
    """How many legs may use it at once; None: as many as there are places of workers."""

    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering: ClassVar = ["name"]

    def set_settings(self, given: Mapping[str, Any], site: str = "") -> None:
        """Validates and stores all settings. A secret that is left out stays as it is sealed, as long as nothing makes it travel
        elsewhere, as another user or less well protected: SecretsNeeded otherwise."""
        model = settings_of(self.kind)
        hidden = secret_keys(model)
        try:
            kept = settings.SEALING_KEYS.unseal(self.sealed)
        except SealBroken:
            kept = {}  # what cannot be opened is lost; this is how it is set anew
        # what is given takes the place of a sealed secret, and a reference that of what was sealed before
        before = {**kept, **{key: value for key, value in self.settings.items() if key in hidden}}
        wanted = model.model_validate({**before, **given})
        if self.pk is not None:
            self._require_secrets(wanted, {key for key in before if before[key]} - given.keys(), site)
        whole = wanted.model_dump(mode="json", exclude_none=True)
        secret = {key: whole[key] for key in hidden if isinstance(whole.get(key), str) and whole[key]}
        references = {key: whole[key] for key in hidden if isinstance(whole.get(key), dict)}
        self.settings = {key: value for key, value in whole.items() if key not in hidden} | references
        self.sealed = settings.SEALING_KEYS.seal(secret)
        self.site = site

    def _require_secrets(self, wanted: Declared, kept: set[str], site: str) -> None:
        """Compares what is stored with what will be."""
        try:
            known = type(wanted).model_validate(dict(self.settings))
        except ValidationError:
            moved = {
                key: ["settings"] for key in kept
            }  # stored before a rule was made: what it was cannot be compared
        else:
            moved = moved_secrets(known, wanted)
        if site != self.site:
            moved = {key: [*moved.get(key, ()), "site"] for key in kept}
        if needed := sorted(kept & moved.keys()):
            raise SecretsNeeded(needed, sorted({name for key in needed for name in moved[key]}))

    def spec(self, job: Mapping[str, Any] | None = None) -> ConnectionSpec:
        """The connection with its secrets opened, and with the keys that the expressions of ``job`` name.

        UltravectError where a secret is not there, or would be sent to a host that it is not for.
        """
        places = SecretPlaces(settings.SECRET_VARIABLES, settings.SECRET_FOLDER)
        return ConnectionSpec(
            self.name,
            self.kind,
            with_secrets(self.name, self.kind, self._opened(), places),
            settings.ROOTS,
            keys_for(keys_named(job), places) if job else {},
            self.site,
        )

    def _opened(self) -> dict[str, Any]:
        """The settings with secrets, and with those of other connections that it names; UltravectError where these cannot be had."""
        whole: Mapping[str, Any] = {**self.settings, **settings.SEALING_KEYS.unseal(self.sealed)}
        for setting, other in self.named().items():
            place = {**other.settings, **settings.SEALING_KEYS.unseal(other.sealed)}
            whole = borrowed(self.kind)[setting](whole, other.name, other.kind, place)
        return dict(whole)

    def named(self) -> dict[str, Connection]:
        """The other connections that its settings name; UltravectError where one is not there, or is at another site."""
        found = {}
        for setting in borrowed(self.kind):
            name = self.settings.get(setting)
            if not name:
                continue
            other = Connection.objects.filter(name=name).first()
            if other is None or other.site != self.site:
                what = "there is no connection" if other is None else "another site has the connection"
                raise UltravectError(
                    "connection-unknown",
                    f"connection {self.name}: {what} {name!r}, which its {setting} names",
                    hint=f"add it, or change {setting}",
                    connection=self.name,
                )
            found[setting] = other
        return found

    @property
    def managed(self) -> bool:
        """Whether the service itself keeps this connection: the place of uploaded files."""
        return self.name == UPLOADS_NAME and bool(settings.UPLOADS) and self.settings.get("path") == settings.UPLOADS

    @property
    def secrets_set(self) -> list[str]:
        try:
            return sorted(settings.SEALING_KEYS.unseal(self.sealed))
        except SealBroken:
            return []
