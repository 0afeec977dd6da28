"""Connections, with their sealed secrets."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any, ClassVar

from django.conf import settings
from django.db import models

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.secrets import SecretPlaces, needed_variables
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import borrowed, settings_of
from ultravect.core.model.connection import machine_keys, secret_keys
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

    def _require_secrets(self, given: dict[str, Any]) -> None:
        """Raises SecretsNeeded when settings lead elsewhere, and secrets that were given for the place before would follow."""
        known = settings_of(self.kind).model_validate(dict(self.settings))
        whole = settings_of(self.kind).model_validate({**self.settings, **given})
        kept = {
            *self.secrets_set,
            *(key for key in secret_keys(settings_of(self.kind)) if self.settings.get(key)),
        } - given.keys()
        moved = [key for key in machine_keys(settings_of(self.kind)) if getattr(known, key) != getattr(whole, key)]
        if getattr(known, "tls", "") == "verified" != getattr(whole, "tls", ""):
            moved.append("tls")
        if moved and kept:
            raise SecretsNeeded(sorted(kept), moved)

    def set_settings(self, given: dict[str, Any]) -> None:
        """Validates and stores settings; a secret that is left out stays as it is sealed, while the place is the same."""
        hidden = secret_keys(settings_of(self.kind))
        if self.pk is not None:
            self._require_secrets(given)
        try:
            kept = settings.SEALING_KEYS.unseal(self.sealed)
        except SealBroken:
            kept = {}  # what cannot be opened is lost; this is how it is set anew
        # what is given takes the place of a sealed secret, and a reference that of what was sealed before
        merged = {**kept, **{key: value for key, value in self.settings.items() if key in hidden}, **given}
        whole = settings_of(self.kind).model_validate(merged).model_dump(mode="json", exclude_none=True)
        secret = {key: whole[key] for key in hidden if isinstance(whole.get(key), str) and whole[key]}
        references = {key: whole[key] for key in hidden if isinstance(whole.get(key), dict)}
        self.settings = {key: value for key, value in whole.items() if key not in hidden} | references
        self.sealed = settings.SEALING_KEYS.seal(secret)

    def spec(self, text: str = "") -> ConnectionSpec:
        """The connection with its secrets opened; with the environment variables that it, or ``text``, names."""
        places = SecretPlaces(settings.SECRET_VARIABLES, settings.SECRET_FOLDER)
        whole = self._opened()
        return ConnectionSpec(
            self.name,
            self.kind,
            whole,
            settings.ROOTS,
            places.variables,
            places.folder,
            needed_variables(places, f"{json.dumps(whole)} {text}"),
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
