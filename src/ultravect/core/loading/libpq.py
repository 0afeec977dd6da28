"""How servers that speak PostgreSQL's protocol are signed in to: whose certificate is asked for, and which sign-ins a password is used for."""

from __future__ import annotations

from typing import Any

from ultravect.core.tls import certificate_file

TLS_MODES = {"off": "disable", "preferred": "prefer", "required": "require", "verified": "verify-full"}
REFUSED = "authentication method requirement"
"""Stands in what the library says where a server asks for a sign-in that is refused here."""


def sign_in_options(tls: str, tls_ca: str = "") -> dict[str, Any]:
    """Options of a session. A server that has not proved who it is gets no password as it is: it may only ask for a proof of it."""
    if tls == "verified":
        return {"sslmode": TLS_MODES[tls], "sslrootcert": certificate_file(tls_ca) if tls_ca else "system"}
    return {
        "sslmode": TLS_MODES[tls],
        "require_auth": "!password",
        **({"sslrootcert": certificate_file(tls_ca)} if tls_ca else {}),
    }
