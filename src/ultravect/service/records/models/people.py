"""Users, their tokens, how they signed in, and what they did."""

from __future__ import annotations

import datetime as dt
import hashlib
import secrets
from collections.abc import Sequence
from typing import ClassVar

from django.contrib.auth.models import AbstractUser
from django.db import models
from django.utils import timezone


class Role(models.TextChoices):
    """What a user may do; each includes the ones before it."""

    VIEWER = "viewer"
    OPERATOR = "operator"
    EDITOR = "editor"
    ADMIN = "admin"

    @property
    def rank(self) -> int:
        return list(Role).index(self)


class User(AbstractUser):
    """Someone who signs in. ``is_active`` false: disabled."""

    role = models.CharField(max_length=16, choices=Role.choices, default=Role.VIEWER)
    only_jobs: Sequence[str] = ()
    """Of a token that may only start and see runs of these jobs; empty for all others."""

    limited_to: Role | None = None
    """The role of the token that this request came with, where that is not to do all that its user may."""

    @property
    def effective_role(self) -> Role:
        own = Role(self.role)
        return min(own, self.limited_to, key=lambda role: role.rank) if self.limited_to else own

    def may(self, role: Role) -> bool:
        """Whether all that takes a role is allowed: never with a token that is for single jobs."""
        return self.is_active and not self.only_jobs and self.effective_role.rank >= role.rank


class Token(models.Model):
    """A key for programs, kept as a hash: the token itself is shown once."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="tokens")
    label = models.CharField(max_length=100)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True)
    role = models.CharField(max_length=16, choices=Role.choices, blank=True, default="")
    """The most that the token may do, whatever its user may; "" for all that the user may."""

    sites = models.JSONField(default=list)
    """The sites of the workers that join with it, by HTTPS; such a token may do nothing else. Empty for other tokens."""

    jobs = models.JSONField(default=list)
    """The jobs whose runs it may start and see; such a token may do nothing else. Empty for other tokens."""

    expires_at = models.DateTimeField(null=True)
    parent = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="children")
    """The token that has made it, with which it ends; None where a password has."""

    @property
    def is_limited(self) -> bool:
        """Whether it may do less than its user, or for a time."""
        return bool(self.role or self.jobs or self.sites or self.expires_at)

    def comes_from(self, other: Token) -> bool:
        """Whether it is the other one, or was made by it, or by one that it has made."""
        token: Token | None = self
        while token is not None:
            if token.pk == other.pk:
                return True
            token = token.parent
        return False

    @property
    def expired(self) -> bool:
        return self.expires_at is not None and self.expires_at <= timezone.now()

    @staticmethod
    def digest_of(token: str) -> str:
        return hashlib.sha256(token.encode()).hexdigest()

    @classmethod
    def issue(
        cls,
        user: User,
        label: str,
        role: str = "",
        expires_at: dt.datetime | None = None,
        sites: Sequence[str] = (),
        jobs: Sequence[str] = (),
        parent: Token | None = None,
    ) -> tuple[Token, str]:
        """A new token, and its text."""
        text = f"uv_{secrets.token_urlsafe(32)}"
        made = cls.objects.create(
            user=user,
            label=label,
            digest=cls.digest_of(text),
            role=role,
            expires_at=expires_at,
            sites=list(sites),
            jobs=list(jobs),
            parent=parent,
        )
        return made, text


class SignInAttempt(models.Model):
    """A sign-in that was tried and has not succeeded: ``key`` is an account or an address."""

    key = models.CharField(max_length=200)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        indexes: ClassVar = [models.Index(fields=["key", "at"])]


class AuditEntry(models.Model):
    """Who did what to which record, and from where. Never changed; users and records may be gone since."""

    at = models.DateTimeField(auto_now_add=True)
    user = models.CharField(max_length=150)
    address = models.CharField(max_length=64, blank=True, default="")
    action = models.CharField(max_length=32)
    kind = models.CharField(max_length=32)
    name = models.CharField(max_length=200)
    detail = models.JSONField(default=dict)

    class Meta:
        ordering: ClassVar = ["-id"]
        indexes: ClassVar = [models.Index(fields=["kind", "name", "-id"])]
