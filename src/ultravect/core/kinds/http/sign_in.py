"""Signing in to a web server: by user and password, by a token, or by one that another address gives for client credentials."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable

import httpx

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.http.kind import HttpSettings

_EARLY_SECONDS = 30.0
_USUAL_SECONDS = 300.0
_ANSWER_BYTES = 1 << 20
_MOST_SECONDS = 366 * 86_400.0
_TOKEN = re.compile(r"[!-~]{1,16384}")


class SignIn:
    """``refusal`` makes an error of the connection: code, what is wrong, and what to do."""

    def __init__(self, settings: HttpSettings, refusal: Callable[[str, str, str], UltravectError]) -> None:
        self._settings, self._refusal = settings, refusal
        self._token, self._until = "", 0.0

    @property
    def renews(self) -> bool:
        """Whether the token is one that can be asked for anew."""
        return bool(self._settings.client_id)

    def forget(self) -> None:
        self._token = ""

    @property
    def how(self) -> str:
        settings = self._settings
        if self.renews:
            return "by client credentials"
        return "by token" if str(settings.token) else f"as {settings.user}" if settings.user else "without sign-in"

    def apply(self, request: httpx.Request, client: httpx.Client) -> None:
        settings = self._settings
        if self.renews:
            request.headers["Authorization"] = f"Bearer {self._current(client)}"
        elif str(settings.token):
            request.headers["Authorization"] = f"Bearer {self._sendable('token', str(settings.token))}"
        elif settings.user:
            auth = httpx.BasicAuth(settings.user, str(settings.password))
            request.headers["Authorization"] = next(auth.sync_auth_flow(request)).headers["Authorization"]

    def _sendable(self, what: str, token: str) -> str:
        """A token that a header can have; what is wrong with another one is said without it."""
        if not _TOKEN.fullmatch(token):
            raise self._refusal(
                "secret-unusable",
                f"its {what} has characters that cannot be sent: spaces, control characters, or letters beyond ASCII",
                "set it anew",
            )
        return token

    def _current(self, client: httpx.Client) -> str:
        """The token, asked for where there is none yet, or it is about to expire. See RFC 6749, section 4.4."""
        if self._token and time.monotonic() < self._until:
            return self._token
        settings = self._settings
        form = {"grant_type": "client_credentials", **({"scope": settings.scope} if settings.scope else {})}
        address = str(settings.token_url)
        try:
            with client.stream(
                "POST", address, data=form, auth=httpx.BasicAuth(settings.client_id, str(settings.client_secret))
            ) as answer:
                body = b""
                for chunk in answer.iter_bytes():
                    body += chunk
                    if len(body) > _ANSWER_BYTES:
                        raise ValueError("the answer is larger than a token")
            if answer.status_code in (400, 401, 403):
                raise self._refusal(
                    "wrong-password",
                    f"{address} refuses the client credentials ({answer.status_code})",
                    "check client_id, client_secret and scope",
                )
            if not answer.is_success:
                raise ValueError(f"it answers {answer.status_code}")
            found = json.loads(body)
            token, lasts = str(found["access_token"]), float(found.get("expires_in") or _USUAL_SECONDS)
            if not _TOKEN.fullmatch(token) or not 0 < lasts < _MOST_SECONDS:
                raise ValueError("what it gives is no token that can be sent")
            self._token = token
        except (httpx.HTTPError, ValueError, KeyError, TypeError, RuntimeError) as error:
            raise self._refusal(
                "token-not-given",
                f"{address} gives no token: {type(error).__name__}: {str(error)[:200]}",
                "check token_url: it is the address that takes grant_type=client_credentials",
            ) from None
        self._until = time.monotonic() + max(lasts - _EARLY_SECONDS, 1.0)
        return self._token
