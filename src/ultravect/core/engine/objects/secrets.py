"""Secrets that are kept outside: read where a reference points, each time they are needed, by the service and by no process that it starts."""

from __future__ import annotations

import fnmatch
import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from pydantic import ValidationError

from ultravect.core.errors import UltravectError
from ultravect.core.inside import inside
from ultravect.core.kinds.registry import settings_of
from ultravect.core.model.connection import CONTROL, addresses_of, secret_keys

_MAX_BYTES = 64 << 10
# a variable, or a file, of this name next to a secret's binds it to the hosts that it lists
_HOSTS, _HOSTS_FILE = "_HOSTS", ".hosts"


@dataclass(frozen=True)
class SecretPlaces:
    """Where references may point: names of environment variables, by a pattern, and one folder."""

    variables: str = "SECRET_*"
    folder: str = "/run/secrets"

    def variable(self, name: str) -> str | None:
        """The value of an environment variable that may be read; None for others, and where it is not set."""
        return os.environ.get(name) if fnmatch.fnmatchcase(name, self.variables) else None

    def file(self, name: str) -> bytes:
        """The first bytes of a file in the folder; OSError or ValueError where there is none."""
        place = inside(Path(self.folder), name)
        if place is None or "/" in name:
            raise FileNotFoundError(2, "there is no such file")
        with place.open("rb") as file:
            return file.read(_MAX_BYTES)


def with_secrets(connection: str, kind: str, settings: Mapping[str, Any], places: SecretPlaces) -> dict[str, Any]:
    """Settings with every reference replaced by the secret; UltravectError when it is not there, or is bound to other hosts."""
    resolved = dict(settings)
    model = settings_of(kind)
    for key in secret_keys(model):
        value = settings.get(key)
        if isinstance(value, Mapping):
            _require_bound(connection, key, value, places, _hosts_of(addresses_of(model, key), settings))
            resolved[key] = _read(connection, key, value, places)
    try:
        model.model_validate(resolved)
    except ValidationError as error:
        # with the settings of this connection stored before a rule was made; values are not shown
        first = error.errors(include_input=False, include_url=False)[0]
        key = str(first["loc"][0]) if first["loc"] else ""
        raise UltravectError(
            "secret-unusable" if key in secret_keys(model) else "input-invalid",
            f"connection {connection}: {key or 'its settings'} cannot be used: {first['msg'].removeprefix('Value error, ')}",
            hint="set it anew",
            connection=connection,
            setting=key,
        ) from None
    return resolved


def _hosts_of(addresses: Iterable[str], settings: Mapping[str, Any]) -> set[str]:
    """The hosts that a secret is sent to, in lower case."""
    found = set()
    for key in addresses:
        value = str(settings.get(key) or "")
        if "://" in value:
            found.add((urlsplit(value).hostname or "").lower())
        elif key == "host" and value:
            found.add(value.lower())
        elif key == "endpoint":
            found.add(f"s3.{settings.get('region') or 'us-east-1'}.amazonaws.com")
    return found


def _require_bound(
    connection: str, key: str, reference: Mapping[str, Any], places: SecretPlaces, hosts: set[str]
) -> None:
    """Raises where the secret is bound to hosts, and one that it would be sent to is none of them."""
    if name := reference.get("from_env"):
        listed = places.variable(f"{name}{_HOSTS}")
    else:
        try:
            listed = places.file(f"{reference.get('from_file')}{_HOSTS_FILE}").decode()
        except (OSError, ValueError):
            listed = None
    if listed is None:
        return
    bound = set(listed.lower().replace(",", " ").split())
    if not hosts or not hosts <= bound:
        other = ", ".join(sorted(hosts - bound)) or "this place"
        raise _refused(
            connection,
            key,
            f"reference {name or reference.get('from_file')}",
            f"it is bound to other hosts than {other}",
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
        value = places.variable(name)
        if value is None:
            raise _missing(connection, key, f"environment variable {name} is not set", "set it for the service")
        return value
    name = str(reference.get("from_file"))
    try:
        return places.file(name).decode().removesuffix("\n").removesuffix("\r")
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "it is not text"
        raise _missing(
            connection,
            key,
            f"the file {name} cannot be read in {places.folder}: {reason}",
            "mount it there for the service",
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


def keys_for(names: Iterable[str], places: SecretPlaces) -> dict[str, str]:
    """The keys that expressions name, and that are there: environment variables that may be read, or files of the secrets' folder."""
    found = {}
    for name in names:
        value = places.variable(name)
        if value is None:
            try:
                value = places.file(name).decode().removesuffix("\n").removesuffix("\r")
            except (OSError, ValueError):
                continue
        if not CONTROL.search(value):
            found[name] = value
    return found


def key_named(name: str, keys: Mapping[str, str]) -> str:
    """The key that an expression names; UltravectError where the service has not given it."""
    if name in keys:
        return keys[name]
    raise UltravectError(
        "key-unknown",
        f"there is no key {name!r}",
        hint="set an environment variable of this name for the service, called as those that it may read; or mount a file of that name "
        "in its folder of secrets",
    )
