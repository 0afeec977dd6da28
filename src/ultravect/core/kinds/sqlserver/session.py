"""Opens sessions, and says in the user's terms why one cannot be opened or was lost."""

from __future__ import annotations

import ipaddress
import struct
import weakref
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import pytds
from OpenSSL import SSL
from pytds import tls
from service_identity import VerificationError
from service_identity.cryptography import verify_certificate_hostname, verify_certificate_ip_address

from ultravect.core.contracts.probe import network_steps
from ultravect.core.contracts.statements import noted
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver.kind import SqlserverSettings
from ultravect.core.kinds.sqlserver.refusals import number_of, shown, sign_in_refusal, translate
from ultravect.core.tls import certificate_file

_SIGN_IN_SECONDS = 15.0
_ANSWER_SECONDS = 3600.0
_PACKET = 32767
_AUTHORITIES = "/etc/ssl/certs/ca-certificates.crt"
_UNVERIFIED = "no certificate"
_STARTED = (
    # a constraint that refuses a row ends its statement and not the transaction, so that the row can be found
    "SET XACT_ABORT OFF; SET ANSI_NULLS ON; SET ANSI_PADDING ON; SET ANSI_WARNINGS ON; SET ARITHABORT ON; "
    "SET CONCAT_NULL_YIELDS_NULL ON; SET QUOTED_IDENTIFIER ON; SET NUMERIC_ROUNDABORT OFF; SET DATEFORMAT ymd; "
    "SET LANGUAGE us_english; SET TEXTSIZE 2147483647; SET ROWCOUNT 0; SET IMPLICIT_TRANSACTIONS OFF; SET LOCK_TIMEOUT -1"
)
"""What each session sets, whatever the server's own settings are."""


def _context(authorities: str) -> SSL.Context:
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_min_proto_version(SSL.TLS1_2_VERSION)
    # the handshake travels inside of packets, which what TLS 1.3 sends after it would not
    context.set_max_proto_version(SSL.TLS1_2_VERSION)
    if authorities != _UNVERIFIED:
        context.load_verify_locations(authorities)
        context.set_verify(SSL.VERIFY_PEER)
    return context


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _is_of_host(cert: Any, name: bytes) -> bool:
    """Whether a certificate is of a host: looked at before the password is sent, by which addresses count as well as names."""
    host = name.decode("ascii")
    held = cert.to_cryptography()
    try:
        if _is_address(host):
            verify_certificate_ip_address(held, host)
        else:
            verify_certificate_hostname(held, host)
    except (VerificationError, ValueError, LookupError):
        return False
    return True


# the driver makes its context and looks at certificates here, and has no other place to say how
tls.create_context, tls.validate_host = _context, _is_of_host


@contextmanager
def _of_the_protocol() -> Iterator[None]:
    """What the driver raises of packets that no server sends, as an error of the driver."""
    try:
        yield
    except (
        ValueError,
        IndexError,
        KeyError,
        NotImplementedError,
        AssertionError,
        OverflowError,
        struct.error,
    ) as error:
        raise pytds.OperationalError(
            f"the server says what the protocol has not: {type(error).__name__}: {str(error)[:100]}"
        ) from None


class Session:
    """A driver's session; ``driver`` is its connection."""

    def __init__(self, driver: Any) -> None:
        self.driver = driver
        self._cursor = driver.cursor()

    def execute(self, statement: str) -> Any:
        """Runs statements; the cursor with the first answer."""
        with noted(statement) as ran:
            with _of_the_protocol():
                self._cursor.execute(statement)
            ran.rows = int(self._cursor.rowcount)
        return self._cursor

    def rows(self, statement: str) -> list[tuple[Any, ...]]:
        cursor = self.execute(statement)
        return list(cursor.fetchall()) if cursor.description else []

    def changed(self, statement: str) -> int:
        return int(self.execute(statement).rowcount)

    @property
    def protocol(self) -> Any:
        """The driver's state of the protocol, which reads and writes its packets."""
        return self.driver._tds_socket.main_session

    @property
    def encrypted(self) -> str:
        transport = self.driver._tds_socket.sock
        if not isinstance(transport, tls.EncryptedSocket):
            return ""
        return str(transport._tls_conn.get_cipher_name() or "TLS")

    def close(self) -> None:
        with suppress(Exception):  # whatever the state of a session that is given up
            self.driver.close()


APPLICATION = "ultravect"


def _attempt(settings: SqlserverSettings, authorities: str | None, application: str, *, reads: bool) -> Any:
    return pytds.connect(
        # "localhost" may mean another address than the one that is listened at
        dsn=f"{settings.host}\\{settings.instance}" if settings.instance else settings.host,
        port=None if settings.instance else settings.port,
        database=settings.database,
        user=settings.user,
        password=str(settings.password),
        appname=application,
        autocommit=True,
        blocksize=_PACKET,
        cafile=authorities,
        validate_host=authorities not in (None, _UNVERIFIED),
        readonly=settings.read_replica and reads,
        login_timeout=_SIGN_IN_SECONDS,
        timeout=_ANSWER_SECONDS,
        disable_connect_retry=True,
    )


def sign_in(
    name: str, settings: SqlserverSettings, *, reads: bool = False, application: str = APPLICATION
) -> Session:
    """A session, or an UltravectError that says what the server refused; ``reads``: it writes nothing. ``application``: what the server's list
    of sessions shows of it."""
    try:
        with _of_the_protocol():
            opened = Session(_signed_in(settings, application, reads=reads))
        opened.execute(_STARTED)
        return opened
    except (pytds.Error, OSError, SSL.Error, RuntimeError) as error:
        raise _explained(error, name, settings) from None


def _signed_in(settings: SqlserverSettings, application: str, *, reads: bool) -> Any:
    match settings.tls:
        case "off":
            return _attempt(settings, None, application, reads=reads)
        case "verified":
            authorities = certificate_file(settings.tls_ca) if settings.tls_ca else _AUTHORITIES
            return _attempt(settings, authorities, application, reads=reads)
    try:
        return _attempt(settings, _UNVERIFIED, application, reads=reads)
    except pytds.Error as error:
        if settings.tls == "required" or "not supported by server" not in str(error):
            raise
    return _attempt(settings, None, application, reads=reads)


def _explained(error: BaseException, name: str, settings: SqlserverSettings) -> UltravectError:
    where = settings.host + (f"\\{settings.instance}" if settings.instance else f":{settings.port}")
    said = str(error)
    refused = sign_in_refusal([number_of(error), *(number for number in (4060, 942, 916) if _says(number, said))])
    if refused is not None:
        code, detail, hint = refused
        text = detail.format(user=settings.user, database=settings.database)
        return UltravectError(code, f"connection {name}: {text} ({where})", hint=hint, connection=name)
    if settings.instance and not isinstance(error, SSL.Error):
        return UltravectError(
            "unknown-instance",
            f"connection {name}: the server's browser service at {settings.host} (UDP 1434) does not name instance {settings.instance!r}",
            hint="check instance for typing errors, see whether the browser service runs, or leave instance out and give its port",
            connection=name,
        )
    if not settings.instance and isinstance(error, OSError):
        for step in network_steps(name, settings.host, settings.port):
            step.run()
    if "does not match host name" in said or (isinstance(error, SSL.Error) and "certificate" in said):
        return UltravectError(
            "certificate-refused",
            f"connection {name}: the server's certificate does not verify ({where})",
            hint="set tls_ca to the certificate of its authority, or set tls: required",
            connection=name,
        )
    if isinstance(error, SSL.Error) or "ncryption" in said:
        return UltravectError(
            "no-tls",
            f"connection {name}: no agreement on TLS with this server: {said or 'it ended the handshake'} ({where})",
            hint="set tls: off, or required, as the server is configured",
            connection=name,
        )
    return UltravectError(
        "sign-in-failed",
        f"connection {name}: signing in at {where} failed: {shown(error)}",
        hint="is it a SQL Server that listens there? See its error log",
        connection=name,
    )


def _says(number: int, text: str) -> bool:
    """Whether a message of several has the words of this number; the driver keeps the number of the last."""
    words = {4060: "Cannot open database", 942: "is offline", 916: "is not able to access the database"}
    return words[number] in text


@contextmanager
def session(
    name: str, settings: SqlserverSettings, doing: str, *, reads: bool = False, application: str = APPLICATION
) -> Iterator[Session]:
    """A session for as long as the context lasts; ``doing`` completes "while …" in errors."""
    opened = sign_in(name, settings, reads=reads, application=application)
    try:
        with explained(name, doing):
            yield opened
    finally:
        opened.close()


@contextmanager
def explained(name: str, doing: str) -> Iterator[None]:
    """Turns the driver's errors into ours."""
    try:
        yield
    except (pytds.Error, OSError, SSL.Error) as error:
        raise translate(error, name, doing) from None


def _close_all(sessions: list[Session]) -> None:
    for opened in sessions:
        opened.close()


class KeptSession:
    """A session that is kept between questions, since signing in takes several round trips."""

    def __init__(self, name: str, settings: SqlserverSettings) -> None:
        self._name, self._settings = name, settings
        self._kept: list[Session] = []
        # the driver's objects refer to each other, and would hold their session until they are looked for
        weakref.finalize(self, _close_all, self._kept)

    def rows(self, doing: str, statement: str) -> Sequence[tuple[Any, ...]]:
        """Asks the catalogue; ``doing`` completes "while …" in errors."""
        opened = self._taken() or sign_in(self._name, self._settings)
        try:
            with explained(self._name, doing):
                found = opened.rows(statement)
        except BaseException:
            opened.close()
            raise
        if self._kept:
            opened.close()
        else:
            self._kept.append(opened)
        return found

    def _taken(self) -> Session | None:
        """The session that was kept, if its server still answers."""
        try:
            opened = self._kept.pop()
        except IndexError:
            return None
        try:
            opened.rows("SELECT 1")
            return opened
        except (pytds.Error, OSError):
            opened.close()
            return None
