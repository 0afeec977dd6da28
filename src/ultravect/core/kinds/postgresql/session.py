"""Opens sessions, and says in the user's terms why one cannot be opened or was lost."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import psycopg
from psycopg import Connection
from psycopg.pq import ConnStatus, TransactionStatus

from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.errors import UltravectError
from ultravect.core.inside import within
from ultravect.core.kinds.postgresql.kind import PostgresqlSettings
from ultravect.core.loading.libpq import REFUSED, sign_in_options
from ultravect.core.loading.noting_cursor import NotingCursor

_CONNECT_SECONDS = 10
# classes of what a row can be refused for: constraints, triggers, views with a check
_CONSTRAINTS = ("23", "P0001", "44")
# What the server or libpq says, and what it means for the user: code, detail, hint
_REFUSALS = (
    (
        REFUSED,
        "sign-in-unsafe",
        "the server asks for the password as it is, and has not proved who it is",
        "set tls: verified; or have the server ask by scram-sha-256",
    ),
    (
        "password authentication failed",
        "wrong-password",
        "the server refused the password of user {user!r}",
        "set the password of the connection anew",
    ),
    (
        "no password supplied",
        "wrong-password",
        "the server wants a password for user {user!r}",
        "set the connection's password",
    ),
    ("does not exist", "unknown-database", "{message}", "check database and user for typing errors"),
    (
        "no pg_hba.conf entry",
        "not-admitted",
        "the server does not admit user {user!r} from this machine",
        "have its pg_hba.conf admit it",
    ),
    (
        "too many clients",
        "server-full",
        "the server has no free connection",
        "try later, or raise max_connections",
    ),
    ("starting up", "server-starting", "the server is starting up", "try again in a moment"),
    ("shutting down", "server-stopping", "the server is shutting down", "try again when it is up"),
    (
        "does not support SSL",
        "no-tls",
        "the server does not speak TLS",
        "set tls: off, or switch TLS on in the server",
    ),
    (
        "certificate",
        "certificate-refused",
        "the server's certificate does not verify: {message}",
        "fix the certificate, or set tls: required",
    ),
)


SESSION = (
    # so that a server notices that a stopped leg is gone even while it waits for a lock
    "client_connection_check_interval=1000",
    # values arrive and are shown as they are, whatever is configured for the server, the database or the user
    "timezone=UTC",
    "datestyle=ISO,YMD",
    "intervalstyle=postgres",
    "extra_float_digits=3",
    "bytea_output=hex",
    "xmlbinary=base64",
    "standard_conforming_strings=on",
    "array_nulls=on",
    "transform_null_equals=off",
    # a load sees what others commit, and waits for them; its own limits end it, and no other
    "default_transaction_isolation=read\\ committed",
    "default_transaction_deferrable=off",
    "statement_timeout=0",
    "idle_in_transaction_session_timeout=0",
    "row_security=on",
)
"""What each session sets, whatever the server's own settings are. The search path is left as it is."""


def _require_admitted_socket(name: str, host: str, roots: Sequence[str]) -> None:
    """A host that is a path would reach whatever listens on this machine; hosts are one each."""
    if "," in host or host.startswith("@"):
        raise UltravectError(
            "host-refused",
            f"connection {name}: {host!r} is not one host",
            hint="name one host, or one address",
            connection=name,
        )
    if host.startswith("/") and within(Path(host), roots) is None:
        raise UltravectError(
            "folder-outside-roots",
            f"connection {name}: the socket in {host} is outside the folders that this service may read",
            hint="name a host; or start the service with a --root that the socket's folder is in",
            connection=name,
        )


def _where(settings: PostgresqlSettings) -> str:
    return f"{settings.host}:{settings.port}"


def reach_steps(name: str, settings: PostgresqlSettings) -> list[Step]:
    """Resolves and reaches the server; one that is reached by a socket of this machine needs neither."""
    return [] if settings.host.startswith("/") else network_steps(name, settings.host, settings.port)


def sign_in(
    name: str,
    settings: PostgresqlSettings,
    application: str,
    roots: Sequence[str] = (),
    *,
    replication: str = "",
    sets: Sequence[str] = (),
) -> Connection[tuple[object, ...]]:
    """A session, or an UltravectError that says what the server refused. ``replication``: "database" for one that speaks the replication
    protocol; ``sets``: more that the session sets, each as name=value."""
    _require_admitted_socket(name, settings.host, roots)
    options: dict[str, Any] = sign_in_options(settings.tls, settings.tls_ca)
    if replication:
        options["replication"] = replication
    try:
        return psycopg.connect(
            host=settings.host,
            port=settings.port,
            dbname=settings.database,
            user=settings.user,
            password=str(settings.password) or None,
            connect_timeout=_CONNECT_SECONDS,
            application_name=_application(application),
            client_encoding="UTF8",
            cursor_factory=NotingCursor,
            options=" ".join(f"-c {setting}" for setting in (*SESSION, *sets)),
            **options,
        )
    except psycopg.OperationalError as error:
        for step in reach_steps(name, settings):
            step.run()
        message = str(error).strip().splitlines()[-1].split("FATAL:")[-1].strip()
        for phrase, code, detail, hint in _REFUSALS:
            if phrase in str(error):
                text = detail.format(user=settings.user, message=message)
                raise UltravectError(
                    code, f"connection {name}: {text} ({_where(settings)})", hint=hint, connection=name
                ) from None
        raise UltravectError(
            "sign-in-failed",
            f"connection {name}: signing in at {_where(settings)} failed: {message}",
            hint="check the connection's settings with `ultravect connection test`",
            connection=name,
        ) from None
    except (psycopg.Error, UnicodeError, ValueError) as error:
        raise UltravectError(
            "sign-in-failed",
            f"connection {name}: the settings cannot be used: {error}",
            hint="check them",
            connection=name,
        ) from None


def is_idle(session: Connection[tuple[object, ...]]) -> bool:
    """Whether the session now waits for its next use, without a transaction: what it read holds no lock.

    One that is in the middle of a statement is not asked: closing it makes the server drop the transaction.
    """
    if session.info.transaction_status == TransactionStatus.ACTIVE:
        return False
    try:
        session.rollback()
    except psycopg.Error:
        return False
    return session.info.transaction_status == TransactionStatus.IDLE


def is_answering(session: Connection[tuple[object, ...]]) -> bool:
    """Whether the server has not ended a session that waits, as far as is known without asking it; one that it has ended is closed."""
    with suppress(psycopg.Error):
        session.pgconn.consume_input()
        if session.info.status == ConnStatus.OK:
            return True
    session.close()
    return False


def is_named(session: Connection[tuple[object, ...]], application: str) -> bool:
    """Whether a session that only asked the catalogue now has this name in the server's list; one that does not answer is closed."""
    try:
        session.execute("SELECT set_config('application_name', %s, false)", (_application(application),))
        session.commit()
    except psycopg.Error:
        session.close()
        return False
    return True


def is_renewed(session: Connection[tuple[object, ...]], application: str) -> bool:
    """Whether a session that was used before is now like a new one; one that is not is closed."""
    try:
        session.autocommit = True
        session.read_only = None
        session.isolation_level = None
        # all that questions may have set, listened to, locked or made: nothing of it reaches the next one
        session.execute(b"DISCARD ALL")
        session.execute("SELECT set_config('application_name', %s, false)", (_application(application),))
        session.autocommit = False
    except psycopg.Error:
        session.close()
        return False
    return True


def _application(doing: str) -> str:
    return f"ultravect {doing}"[:63]


@contextmanager
def explained(name: str, doing: str) -> Iterator[None]:
    """Turns the database's errors into ours; ``doing`` completes "while …"."""
    try:
        yield
    except psycopg.Error as error:
        raise translate(error, name, doing) from None


def shown(error: psycopg.Error) -> str:
    """What the server says is wrong, with its details."""
    message = error.diag.message_primary or str(error).strip()
    detail = error.diag.message_detail
    return f"{message} ({detail.rstrip('.')})" if detail else message


def translate(error: psycopg.Error, name: str, doing: str, named: Callable[[str], str] = str) -> UltravectError:
    """What a database error means for the user; ``named`` puts the names into the message that the user knows."""
    diagnosis = error.diag
    if error.sqlstate is None or (error.sqlstate[:2] in ("08", "57") and error.sqlstate != "57014"):
        return UltravectError(
            "connection-lost",
            f"connection {name}: the connection to the database was lost while {doing}",
            hint="see whether the database is up, then run again",
            connection=name,
        )
    message = named(shown(error))
    codes = {
        "42501": ("privilege-missing", "have the privilege granted to the connection's user"),
        "57014": ("time-limit", "ask for less, or raise the limit"),
        "25006": (
            "read-only",
            "questions may only read"
            if not doing.startswith("loading")
            else "the target takes no writes: it is a standby, or its user may only read",
        ),
        "23505": (
            "constraint-refused",
            "the rows break a unique constraint of the target: clear the old rows, or fix the source",
        ),
        "23514": (
            "constraint-refused",
            "the rows break a check constraint of the target: fix the source or the constraint",
        ),
        "23503": ("constraint-refused", "the rows point to rows that are not there: load those first"),
        "23P01": ("constraint-refused", "the rows break an exclusion constraint of the target: fix the source"),
        "55P03": ("target-locked", "another session holds a lock on the table: run again when it is done"),
        "2BP01": ("target-depended-on", "drop what depends on the table, or write into.if_different: widen"),
        "53100": ("target-full", "free disk space in the target"),
    }
    usual = ("database-error", diagnosis.message_hint or "")
    if error.sqlstate.startswith(_CONSTRAINTS):
        usual = (
            "constraint-refused",
            diagnosis.message_hint or "fix the source, or tolerate such rows with into.rejects",
        )
    code, hint = codes.get(error.sqlstate, usual)
    return UltravectError(
        code,
        f"connection {name}, while {doing}: {message}",
        hint=hint,
        connection=name,
        table=named(diagnosis.table_name or "") or None,
        column=diagnosis.column_name,
        constraint=named(diagnosis.constraint_name or "") or None,
        sqlstate=error.sqlstate,
    )
