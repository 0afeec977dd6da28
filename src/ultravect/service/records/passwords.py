"""How passwords are stored."""

from __future__ import annotations

from django.contrib.auth.hashers import Argon2PasswordHasher


class PasswordHasher(Argon2PasswordHasher):
    """Argon2id with the least costs that OWASP's "Password Storage Cheat Sheet" names.

    19 MiB and some tens of milliseconds a sign-in: Django's own costs are five times the memory, and its default,
    PBKDF2, keeps a processor busy for a second, which anyone who can reach the service may ask for.
    """

    time_cost = 2
    memory_cost = 19_456  # KiB
    parallelism = 1
