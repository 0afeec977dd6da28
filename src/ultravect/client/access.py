"""Who has access: tokens, users, and the log of what they did."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from ultravect.client.calls import LIST_SIZE, Calls
from ultravect.client.models import (
    Account,
    AuditEntry,
    KnownToken,
    Page,
    Token,
    User,
)


class Access(Calls):
    """Who has access: tokens, users, and the log of what they did."""

    def issue_token(self, user: str, password: str, label: str) -> Token:
        return Token.model_validate(
            self._json("POST", "tokens", json={"user": user, "password": password, "label": label})
        )

    def make_token(
        self,
        label: str,
        *,
        role: str = "",
        days: int | None = None,
        sites: Sequence[str] = (),
        jobs: Sequence[str] = (),
    ) -> Token:
        """A token of one's own; its text is in the answer, this once. ``days`` None: it never expires.

        ``jobs``: it may only start runs of these, and see them. ``sites``: for workers of these sites that join by HTTPS, and for nothing else.
        """
        asked: dict[str, Any] = {"label": label}
        asked |= {
            name: value
            for name, value in (("role", role), ("days", days), ("sites", list(sites)), ("jobs", list(jobs)))
            if value
        }
        return Token.model_validate(self._json("POST", "tokens", json=asked))

    def tokens(self, *, of_all: bool = False) -> list[KnownToken]:
        """One's own tokens, or those of all users."""
        if not of_all:
            return [KnownToken.model_validate(item) for item in self._json("GET", "tokens")]
        page = self._json("GET", "users-tokens", params={"page_size": LIST_SIZE})
        return [KnownToken.model_validate(item) for item in page["items"]]

    def withdraw_token(self, number: int) -> None:
        self._transport.request("DELETE", f"tokens/{number}")

    def users(self) -> list[Account]:
        page = self._json("GET", "users", params={"page_size": LIST_SIZE})
        return [Account.model_validate(item) for item in page["items"]]

    def add_user(self, name: str, password: str, role: str) -> Account:
        body = {"name": name, "password": password, "role": role}
        return Account.model_validate(self._json("POST", "users", json=body))

    def change_user(
        self, name: str, *, role: str | None = None, password: str | None = None, active: bool | None = None
    ) -> Account:
        """Changes what is given; the rest stays."""
        given = {"role": role, "password": password, "active": active}
        body = {key: value for key, value in given.items() if value is not None}
        return Account.model_validate(self._json("PATCH", f"users/{quote(name, '')}", json=body))

    def audit(self, *, kind: str = "", name: str = "", user: str = "", page: int = 1) -> Page[AuditEntry]:
        """Who did what, the newest first."""
        asked = {key: value for key, value in {"kind": kind, "name": name, "user": user}.items() if value}
        return self._pages(AuditEntry, "audit", {**asked, "page": page})

    def me(self) -> User:
        return User.model_validate(self._json("GET", "session"))
