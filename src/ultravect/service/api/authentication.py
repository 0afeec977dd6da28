"""Signing in with a token in the Authorization header."""

from __future__ import annotations

import datetime as dt

from django.utils import timezone
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework.authentication import BaseAuthentication, get_authorization_header
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request

from ultravect.service.records.models import Role, Token, User

_USE_RESOLUTION = dt.timedelta(minutes=1)


def token_in(header: bytes) -> Token | None:
    """The token of an Authorization header; None where it has none, AuthenticationFailed for one that is not valid."""
    parts = header.split()
    if not parts or parts[0].lower() != b"bearer":
        return None
    if len(parts) != 2:
        raise AuthenticationFailed("the Authorization header must be `Bearer` and one token")
    digest = Token.digest_of(parts[1].decode("latin-1"))
    token = Token.objects.select_related("user").filter(digest=digest, user__is_active=True).first()
    if token is None:
        raise AuthenticationFailed("this token is not known; sign in again")
    if token.expired:
        raise AuthenticationFailed("this token has expired; sign in again")
    now = timezone.now()
    if token.used_at is None or now - token.used_at > _USE_RESOLUTION:
        token.used_at = now
        token.save(update_fields=["used_at"])
    return token


class BearerToken(BaseAuthentication):
    """``Authorization: Bearer uv_…``"""

    def authenticate(self, request: Request) -> tuple[User, Token] | None:
        token = token_in(get_authorization_header(request))
        if token is None:
            return None
        if token.sites:
            raise AuthenticationFailed("this token is for workers that join by HTTPS, and for nothing else")
        token.user.only_jobs = token.jobs
        token.user.limited_to = Role(token.role) if token.role else None
        return token.user, token

    def authenticate_header(self, request: Request) -> str:
        return "Bearer"


class BearerTokenScheme(OpenApiAuthenticationExtension):
    """Describes it to the OpenAPI generator."""

    target_class = BearerToken
    name = "token"

    def get_security_definition(self, auto_schema: object) -> dict[str, str]:
        return {"type": "http", "scheme": "bearer"}
