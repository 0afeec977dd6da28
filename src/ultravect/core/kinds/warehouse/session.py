"""Opens sessions, and says in the user's terms why one cannot be opened or was lost."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import psycopg

from ultravect.core.contracts.probe import network_steps
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse.kind import WarehouseSettings
from ultravect.core.loading.libpq import REFUSED, sign_in_options
from ultravect.core.loading.noting_cursor import NotingCursor

_SECONDS = 30  # a warehouse that sleeps has to wake up first
_CODES = {
    "42501": ("privilege-missing", "have the privilege granted to the connection's user"),
    "57014": ("time-limit", "ask for less, or raise the limit"),
    "23502": ("constraint-refused", "a column takes no NULL: fix the source, or fill it in columns"),
    "22001": ("constraint-refused", "a value is longer than its column, which counts bytes"),
    "55P03": ("target-locked", "another session holds a lock on the table: run again when it is done"),
    "40001": ("deadlock", "another transaction changed the same rows: run again"),
    "40P01": ("deadlock", "another transaction was in the way: run again"),
    "53100": ("target-full", "free space in the warehouse"),
    "42601": ("question-refused", "check the statement; only one can be asked at a time"),
    "42P01": ("question-refused", "check table and column names with `ultravect look`"),
    "42703": ("question-refused", "check table and column names with `ultravect look`"),
    "25006": ("read-only", "questions may only read"),
}
_STAGING = ("S3", "s3://", "manifest", "IAM_ROLE", "credential", "stage '", "Stage '", "Remote file")


class Session:
    """A driver's session; see ``Statements``."""

    def __init__(self, driver: psycopg.Connection[Any]) -> None:
        self.driver = driver

    def execute(self, statement: str) -> psycopg.Cursor[Any]:
        return self.driver.execute(statement.encode())

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        cursor = self.execute(statement)
        return cursor.fetchall() if cursor.description else []

    def changed(self, statement: str) -> int:
        return max(self.execute(statement).rowcount, 0)


def sign_in(name: str, settings: WarehouseSettings, opening: Sequence[str], doing: str) -> Session:
    """A session that commits each statement, or an UltravectError that says what the server refused."""
    try:
        opened = psycopg.connect(
            host=settings.host,
            port=settings.port,
            dbname=settings.database,
            user=settings.user,
            password=str(settings.password),
            connect_timeout=_SECONDS,
            application_name=f"ultravect {doing}"[:63],
            client_encoding="utf8",
            cursor_factory=NotingCursor,
            autocommit=True,
            **sign_in_options(settings.tls, settings.tls_ca),
        )
        opened.prepare_threshold = None
        for statement in opening:
            opened.execute(statement.encode())
    except psycopg.OperationalError as error:
        raise _explained_sign_in(str(error), name, settings) from None
    return Session(opened)


def _explained_sign_in(said: str, name: str, settings: WarehouseSettings) -> UltravectError:
    where = f"{settings.host}:{settings.port}"
    known = (
        (REFUSED, "sign-in-unsafe", "the server asks for the password as it is, and has not proved who it is", "set tls: verified"),
        ("password authentication failed", "wrong-password", "the server refused the password of the user", "set user and password anew"),
        ("does not exist", "unknown-database", f"there is no database {settings.database!r}, or no such user", "check both for typing errors"),
        ("too many", "server-full", "the server has no free connection", "try later"),
        ("certificate", "certificate-refused", "the server's certificate does not verify", "set tls_ca, or tls: required"),
        ("SSL", "no-tls", "no agreement on TLS with this server", "set tls: off, or required, as the server is configured"),
    )  # fmt: skip
    for word, code, detail, hint in known:
        if word in said:
            return UltravectError(code, f"connection {name}: {detail} ({where})", hint=hint, connection=name)
    for step in network_steps(name, settings.host, settings.port):
        step.run()
    return UltravectError(
        "sign-in-failed",
        f"connection {name}: signing in at {where} failed: {' '.join(said.split())[:300]}",
        hint="is the warehouse awake? Check the connection's settings",
        connection=name,
    )


@contextmanager
def session(name: str, settings: WarehouseSettings, opening: Sequence[str], doing: str) -> Iterator[Session]:
    """A session for as long as the context lasts, begun with some statements; ``doing`` completes "while …" in errors."""
    opened = sign_in(name, settings, opening, doing)
    try:
        yield opened
    except psycopg.Error as error:
        raise translate(error, name, settings, doing) from None
    finally:
        opened.driver.close()


def translate(error: psycopg.Error, name: str, settings: WarehouseSettings, doing: str) -> UltravectError:
    """What a database error means for the user; the key of the bucket is in statements, and never in messages."""
    if error.sqlstate is None or (error.sqlstate[:2] in ("08", "57") and error.sqlstate != "57014"):
        return UltravectError(
            "connection-lost",
            f"connection {name}: the connection to the warehouse was lost while {doing}",
            hint="see whether it is up, then run again",
            connection=name,
        )
    text = error.diag.message_primary or " ".join(str(error).split())
    if error.diag.message_detail:
        text += f" ({error.diag.message_detail.rstrip('.')})"
    for secret in (settings.secret_key, settings.session_token, settings.password):
        text = text.replace(str(secret), "…") if secret else text
    code, hint = _CODES.get(error.sqlstate, ("database-error", ""))
    if code == "database-error" and any(word in text for word in _STAGING):
        code, hint = (
            "staging-refused",
            "may the warehouse reach the bucket? See its role or key, and the bucket's region",
        )
    return UltravectError(code, f"connection {name}, while {doing}: {text}", hint=hint, connection=name)
