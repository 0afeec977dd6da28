"""Reaching an SFTP server: its host key is verified, then the user signs in."""

from __future__ import annotations

import base64
import hashlib
import io
import socket
from collections.abc import Sequence

import paramiko

from ultravect.core.contracts.probe import network_steps
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sftp.kind import SftpSettings
from ultravect.core.kinds.sftp.remote_file import LOST
from ultravect.core.storage.paths import Named

_SECONDS = 15.0


def fingerprint(key: paramiko.PKey) -> str:
    """As `ssh-keygen -l` shows it."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")


class SftpServer(Named):
    """A server that can be signed in to, as a connection says."""

    def __init__(self, name: str, settings: SftpSettings, roots: Sequence[str]) -> None:
        super().__init__(name)
        self._settings = settings

    def _transport(self) -> paramiko.Transport:
        """An encrypted way to the server, whose host key is the one that the connection names."""
        settings = self._settings
        transport = None
        try:
            reached = socket.create_connection((settings.host, settings.port), timeout=_SECONDS)
            transport = paramiko.Transport(reached)
            transport.banner_timeout = transport.auth_timeout = _SECONDS
            transport.start_client(timeout=_SECONDS)
            self._verify(transport.get_remote_server_key())
            return transport
        except UltravectError:
            if transport:
                transport.close()
            raise
        except LOST as error:
            if transport:
                transport.close()
            for step in network_steps(self._name, settings.host, settings.port):
                step.run()
            raise self._error(
                "sign-in-failed",
                f"{settings.host}:{settings.port} does not speak SSH: {str(error) or type(error).__name__}",
                "check host and port",
            ) from None

    def _verify(self, key: paramiko.PKey) -> None:
        shown = f"{key.get_name()} {key.get_base64()}"
        where = f"{self._settings.host}:{self._settings.port}"
        if not self._settings.host_key:
            raise self._error(
                "host-key-unknown",
                f"{where} shows the host key {fingerprint(key)} ({key.get_name()}), which is not confirmed yet",
                f"compare it with what the server's owner says; if it is right, set host_key to: {shown}",
            )
        known = self._settings.host_key.split()
        if known[:2] != shown.split() and known[-1:] != [fingerprint(key)]:
            raise self._error(
                "host-key-changed",
                f"{where} shows another host key than the one confirmed: {fingerprint(key)} ({key.get_name()}); nothing was sent",
                f"ask the server's owner; only if the key was changed on purpose, set host_key to: {shown}",
            )

    def _key(self) -> paramiko.PKey | None:
        text, phrase = str(self._settings.private_key), str(self._settings.passphrase) or None
        if not text:
            return None
        for kind in (paramiko.Ed25519Key, paramiko.ECDSAKey, paramiko.RSAKey):
            try:
                return kind.from_private_key(io.StringIO(text.strip() + "\n"), phrase)
            except paramiko.PasswordRequiredException:
                raise self._error("wrong-key", "the private key has a passphrase", "set passphrase") from None
            except (paramiko.SSHException, ValueError, IndexError, TypeError):
                continue
        raise self._error(
            "wrong-key",
            "the private key cannot be used: it is of another kind, damaged, or its passphrase is wrong",
            "paste the whole text of an Ed25519, ECDSA or RSA key, with its first and last line",
        )

    def _signed_in(self) -> paramiko.Transport:
        transport = self._transport()
        settings = self._settings
        try:
            key = self._key()
            if key is not None:
                transport.auth_publickey(settings.user, key)
            else:
                transport.auth_password(settings.user, str(settings.password))
        except paramiko.BadAuthenticationType as error:
            transport.close()
            raise self._error(
                "wrong-password",
                f"the server takes {', '.join(error.allowed_types)}, not what the connection has",
                "set private_key",
            ) from None
        except paramiko.AuthenticationException:
            transport.close()
            what = "private key" if str(settings.private_key) else "password"
            raise self._error(
                "wrong-password", f"the server refused the {what} of user {settings.user!r}", f"check user and {what}"
            ) from None
        except UltravectError:
            transport.close()
            raise
        except LOST as error:
            transport.close()
            raise self._error("sign-in-failed", f"signing in broke off: {error}", "try again") from None
        return transport
