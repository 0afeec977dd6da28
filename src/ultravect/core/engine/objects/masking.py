"""Secrets in texts that leave a process: whatever a library or a server says, the secrets of the connections in use are not in it."""

from __future__ import annotations

import base64
import json
import logging
import re
from collections.abc import Iterable, Iterator
from typing import Any
from urllib.parse import quote, quote_plus

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.kinds.registry import settings_of
from ultravect.core.model.connection import secret_keys

_SHORTEST = 4
"""Shorter secrets would be found in every second word."""

_LINE = 16
_SHOWN = "…"

_NOT_SAID = frozenset((
    "code", "kind", "state", "phase", "severity", "level", "mode", "strategy", "outcome", "place", "pointer",
    "edit", "mark", "rows", "columns", "source_columns", "target_columns",
))  # fmt: skip
"""Keys whose values are words of ours that programs compare, parts of a job file, or rows, and never what a library or a server has said:
a password that happens to be such a word changes none of them."""


class Mask:
    """Replaces secrets in texts, in each of the forms in which programs write them."""

    def __init__(self, secrets: Iterable[tuple[str, str]] = ()) -> None:
        """``secrets``: pairs of a user, "" for none, and what is to be hidden."""
        forms = {form for user, secret in secrets if len(secret) >= _SHORTEST for form in _forms(user, secret)}
        longest = sorted(forms, key=len, reverse=True)
        self._found = re.compile("|".join(re.escape(form) for form in longest)) if forms else None

    @classmethod
    def of_connections(cls, specs: Iterable[ConnectionSpec]) -> Mask:
        """The secrets and keys of connections."""
        return cls(pair for spec in specs for pair in _secrets_of(spec))

    def text(self, text: str) -> str:
        return text if self._found is None else self._found.sub(_SHOWN, text)

    def data(self, value: Any) -> Any:
        """The same for all texts in data as JSON has it, but for what gives the data its structure: keys, and words of ours.
        What an error says of where it happened is masked as a whole."""
        if self._found is None:
            return value
        match value:
            case str():
                return self.text(value)
            case dict():
                return {key: self._item(key, item) for key, item in value.items()}
            case list() | tuple():
                return [self.data(item) for item in value]
        return value

    def _item(self, key: str, value: Any) -> Any:
        if key == "where" and isinstance(value, dict):
            return {name: self.data(item) for name, item in value.items()}
        return value if key in _NOT_SAID else self.data(value)

    def in_logs(self) -> None:
        """From here on, what this process logs is masked, tracebacks included."""
        for handler in logging.getLogger().handlers:
            handler.setFormatter(_Formatter(handler.formatter, self))


class _Formatter(logging.Formatter):
    def __init__(self, inner: logging.Formatter | None, mask: Mask) -> None:
        super().__init__()
        self._inner, self._mask = inner or logging.Formatter(), mask

    def format(self, record: logging.LogRecord) -> str:
        return self._mask.text(self._inner.format(record))


def _secrets_of(spec: ConnectionSpec) -> Iterator[tuple[str, str]]:
    users = [str(spec.settings.get(name) or "") for name in ("user", "client_id", "access_key")]
    for key in secret_keys(settings_of(spec.kind)):
        if isinstance(secret := spec.settings.get(key), str) and secret:
            yield from ((user, secret) for user in users)
    yield from (("", key) for key in spec.keys.values())


def _forms(user: str, secret: str) -> Iterator[str]:
    yield from (secret, quote(secret, safe=""), quote(secret), quote_plus(secret))
    yield from (json.dumps(secret)[1:-1], json.dumps(secret, ensure_ascii=False)[1:-1], repr(secret)[1:-1])
    for text in (secret, f"{user}:{secret}"):
        yield base64.b64encode(text.encode()).decode().rstrip("=")
    if "\n" in secret:
        yield from (line for line in secret.splitlines() if len(line) >= _LINE and not line.startswith("-----"))
