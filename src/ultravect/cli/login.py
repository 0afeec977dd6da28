"""Where the service is and who we are: stored by `ultravect login`, overridden by the environment."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

from ultravect.client import Client


class NotSignedIn(Exception):
    """Neither the environment nor a stored login says where the service is."""


@dataclass(frozen=True)
class Login:
    url: str
    token: str | None


def _file() -> Path:
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "ultravect" / "login.json"


def store(login: Login) -> Path:
    """Keeps a login for the next commands, readable by its owner only."""
    path = _file()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.touch(mode=0o600)
    path.chmod(0o600)
    path.write_text(json.dumps({"url": login.url, "token": login.token}))
    return path


def current() -> Login:
    """ULTRAVECT_URL and ULTRAVECT_TOKEN, or what was stored."""
    try:
        stored = json.loads(_file().read_text())
    except (OSError, ValueError):
        stored = {}
    url = os.environ.get("ULTRAVECT_URL") or stored.get("url")
    if not url:
        raise NotSignedIn("not signed in to a service")
    return Login(url, os.environ.get("ULTRAVECT_TOKEN") or stored.get("token"))


def connect() -> Client:
    login = current()
    return Client(login.url, token=login.token)
