"""Secrets that are kept outside: read where a reference points, each time they are needed."""

from __future__ import annotations

import fnmatch
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import settings_of
from ultravect.core.model.connection import machine_keys, secret_keys

_MAX_BYTES = 64 << 10
# a variable, or a file, of this name next to a secret's binds it to the hosts that it lists
_HOSTS, _HOSTS_FILE = "_HOSTS", ".hosts"


@dataclass(frozen=True)
class SecretPlaces:
    """Where references may point: names of environment variables, by a pattern, and one folder."""

    variables: str = "SECRET_*"
    folder: str = "/run/secrets"
    environment: Mapping[str, str] | None = None
    """What is read in place of the process's own environment."""

    def named(self, variable: str) -> str | None:
        """The value of an environment variable, None where it is not set."""
        return (os.environ if self.environment is None else self.environment).get(variable)


def needed_variables(places: SecretPlaces, text: str) -> dict[str, str]:
    """Those of the environment variables that may be read whose names stand in ``text``, and their bindings."""
    return {
        name: value
        for name, value in os.environ.items()
        if fnmatch.fnmatchcase(name, places.variables) and name.removesuffix(_HOSTS) in text
    }


def with_secrets(connection: str, kind: str, settings: Mapping[str, Any], places: SecretPlaces) -> dict[str, Any]:
    """Settings with every reference replaced by the secret; UltravectError when it is not there."""
    resolved = dict(settings)
    for key in secret_keys(settings_of(kind)):
        value = settings.get(key)
        if isinstance(value, Mapping):
            resolved[key] = _read(connection, key, value, places)
            _require_bound(connection, key, value, places, _host_of(kind, settings))
    return resolved


def _host_of(kind: str, settings: Mapping[str, Any]) -> str:
    """The host that a connection reaches, in lower case; "" where it reaches none."""
    for key in machine_keys(settings_of(kind)):
        value = str(settings.get(key) or "")
        if key in ("host", "url", "endpoint") and value:
            return (urlsplit(value).hostname if "://" in value else value) or ""
    return ""


def _require_bound(connection: str, key: str, reference: Mapping[str, Any], places: SecretPlaces, host: str) -> None:
    """Raises where the secret is bound to other hosts."""
    if name := reference.get("from_env"):
        listed = places.named(f"{name}{_HOSTS}")
    else:
        try:
            listed = (Path(places.folder) / f"{reference.get('from_file')}{_HOSTS_FILE}").read_text("utf-8")
        except OSError:
            listed = None
    if listed is not None and host.lower() not in listed.lower().replace(",", " ").split():
        raise _refused(
            connection,
            key,
            f"reference {name or reference.get('from_file')}",
            f"it is bound to other hosts than {host or 'this place'}",
        )


def _read(connection: str, key: str, reference: Mapping[str, Any], places: SecretPlaces) -> str:
    if name := reference.get("from_env"):
        if not fnmatch.fnmatchcase(name, places.variables):
            raise _refused(
                connection,
                key,
                f"environment variable {name}",
                f"only variables called {places.variables} may be read",
            )
        value = places.named(name)
        if value is None:
            raise _missing(
                connection, key, f"environment variable {name} is not set", "set it for the service and its workers"
            )
        return value
    name = str(reference.get("from_file"))
    folder = Path(places.folder)
    try:
        path = (folder / name).resolve()
        data = path.read_bytes()[:_MAX_BYTES]
        return data.decode().removesuffix("\n").removesuffix("\r")
    except (OSError, UnicodeDecodeError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "it is not text"
        raise _missing(
            connection,
            key,
            f"the file {name} cannot be read in {places.folder}: {reason}",
            "mount it there for the service and its workers",
        ) from None


def _refused(connection: str, key: str, what: str, why: str) -> UltravectError:
    return UltravectError(
        "secret-refused",
        f"connection {connection}: its {key} is to come from the {what}, which this service does not allow",
        hint=f"{why}; ask those who run the service: see `Secrets` in docs/operations.md",
        connection=connection,
        setting=key,
    )


def _missing(connection: str, key: str, what: str, hint: str) -> UltravectError:
    return UltravectError(
        "secret-missing",
        f"connection {connection}: its {key} is not there: {what}",
        hint=hint,
        connection=connection,
        setting=key,
    )


def opened_settings(connection: str, kind: str, settings: Mapping[str, Any], places: SecretPlaces) -> Any:
    """The settings of a kind with its secrets as text."""
    return settings_of(kind).model_validate(with_secrets(connection, kind, settings, places))


def key_named(name: str, places: SecretPlaces) -> str:
    """The key that an expression names: an environment variable that may be read, or a file of the secrets' folder."""
    if fnmatch.fnmatchcase(name, places.variables) and (value := places.named(name)) is not None:
        return value
    path = (Path(places.folder) / name).resolve()
    if "/" not in name and path.is_file():
        return path.read_text("utf-8").removesuffix("\n").removesuffix("\r")
    raise UltravectError(
        "key-unknown",
        f"there is no key {name!r}",
        hint=f"set an environment variable called {places.variables} for service and workers, or mount a file of that name in {places.folder}",
    )
