"""Certificates of authorities, for libraries that take them only as files."""

from __future__ import annotations

import functools
import hashlib
import os
import ssl
import tempfile
from pathlib import Path

from ultravect.core.errors import UltravectError


def certificate_file(text: str) -> str:
    """The path of a file that holds a certificate; written once a process for each."""
    digest = hashlib.sha256(text.encode()).hexdigest()[:24]
    path = Path(tempfile.gettempdir(), f"ultravect-ca-{os.getuid()}-{digest}.pem")
    if not path.exists() or path.read_text() != text:
        fresh = path.with_suffix(f".{os.getpid()}")
        fresh.touch(mode=0o600)
        fresh.write_text(text)
        fresh.replace(path)
    return str(path)


@functools.lru_cache(maxsize=100)
def _context(certificate: str) -> ssl.SSLContext:
    # what the machine trusts are some hundred certificates, which take a tenth of a second to read
    return ssl.create_default_context(cadata=certificate or None)


def verifying_context(connection: str, certificate: str) -> ssl.SSLContext:
    """A context that verifies servers against ``certificate``, or against what this machine trusts; the same for all that ask."""
    try:
        return _context(certificate)
    except ssl.SSLError as error:
        raise UltravectError(
            "certificate-unusable",
            f"connection {connection}: its tls_ca is no certificate: {error.reason or error}",
            hint="paste the PEM text of the authority's certificate",
            connection=connection,
        ) from None
