"""Seals secrets at rest: Fernet (AES-128-CBC with HMAC-SHA256), the key from the environment or a file."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from cryptography.fernet import Fernet, InvalidToken
from django.core.exceptions import ImproperlyConfigured


class SealBroken(Exception):
    """A sealed value does not open with this key."""

    hint = "start the service with the key it had, or set the connection's secrets anew"


class Keys:
    """One secret, from which the sealing key and the key that signs sessions are derived."""

    def __init__(self, secret: bytes) -> None:
        self._fernet = Fernet(base64.urlsafe_b64encode(hashlib.sha256(b"ultravect seal\0" + secret).digest()))
        self.signing = hashlib.sha256(b"ultravect sign\0" + secret).hexdigest()

    def seal(self, secrets: Mapping[str, Any]) -> str:
        """Sealed text; "" for no secrets, which no change of keys can break."""
        if not secrets:
            return ""
        return self._fernet.encrypt(json.dumps(dict(secrets)).encode()).decode()

    def unseal(self, sealed: str) -> dict[str, Any]:
        if not sealed:
            return {}
        try:
            opened: dict[str, Any] = json.loads(self._fernet.decrypt(sealed.encode()))
        except InvalidToken:
            raise SealBroken("the secrets were sealed with another key") from None
        return opened


def read_key(environment: Mapping[str, str]) -> Keys:
    """The keys from ULTRAVECT_KEY, or from the file that ULTRAVECT_KEY_FILE names."""
    secret = environment.get("ULTRAVECT_KEY", "")
    if not secret and (path := environment.get("ULTRAVECT_KEY_FILE", "")):
        try:
            secret = Path(path).read_text().strip()
        except OSError as error:
            raise ImproperlyConfigured(f"ULTRAVECT_KEY_FILE: {path} cannot be read: {error.strerror}") from None
    if len(secret) < 16:
        raise ImproperlyConfigured("set ULTRAVECT_KEY, or ULTRAVECT_KEY_FILE, to a secret of at least 16 characters")
    return Keys(secret.encode())
