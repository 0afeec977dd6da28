"""Opens sessions, and says in the user's terms why one cannot be opened or was lost."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import MySQLdb
import MySQLdb.connections
from MySQLdb.constants import CR, ER

from ultravect.core.contracts.probe import network_steps
from ultravect.core.contracts.statements import noted
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb.guard import LocalFiles, cipher
from ultravect.core.kinds.mariadb.kind import MariadbSettings
from ultravect.core.tls import certificate_file

_SECONDS = 10
_READ_SECONDS = 300
_REFUSALS = {
    ER.ACCESS_DENIED_ERROR: (
        "wrong-password",
        "the server refused the password of user {user!r}, or does not admit it from this machine",
        "set the password of the connection anew; or have the user admitted from here",
    ),
    ER.DBACCESS_DENIED_ERROR: (
        "not-admitted",
        "user {user!r} may not use the database {database!r}",
        "have it granted, and check the database for typing errors",
    ),
    ER.BAD_DB_ERROR: ("unknown-database", "there is no database {database!r}", "check database for typing errors"),
    ER.CON_COUNT_ERROR: ("server-full", "the server has no free connection", "try later, or raise max_connections"),
    ER.HOST_NOT_PRIVILEGED: (
        "not-admitted",
        "the server does not admit this machine",
        "have the user admitted from here",
    ),
    ER.HOST_IS_BLOCKED: ("not-admitted", "the server has blocked this machine", "run FLUSH HOSTS on the server"),
}
# what a row can be refused for: keys, foreign keys, checks (of both families), triggers, NULL, values that do not fit
REFUSED = frozenset(
    [ER.DUP_ENTRY, ER.NO_REFERENCED_ROW_2, 4025, 3819, 1644, 1048, 1364, 1406, 1264, 1366, 1292, 1265]
)
LOST = {CR.SERVER_LOST, CR.SERVER_GONE_ERROR}
_NEVER_READ = {
    ER.TABLEACCESS_DENIED_ERROR: ("privilege-missing", "have the privilege granted to the connection's user"),
    ER.COLUMNACCESS_DENIED_ERROR: ("privilege-missing", "have the privilege granted to the connection's user"),
    ER.CANT_EXECUTE_IN_READ_ONLY_TRANSACTION: ("read-only", "questions may only read"),
    ER.QUERY_INTERRUPTED: ("time-limit", "ask for less, or raise the limit"),
    1969: ("time-limit", "ask for less, or raise the limit"),  # MariaDB's own limit, max_statement_time
    3024: ("time-limit", "ask for less, or raise the limit"),  # that of MySQL
    ER.LOCK_WAIT_TIMEOUT: ("target-locked", "another session holds a lock on the table: run again when it is done"),
    1021: ("target-full", "free disk space in the target"),  # ER_DISK_FULL
    1114: ("target-full", "free disk space in the target"),  # ER_RECORD_FILE_FULL
    ER.DUP_ENTRY: (
        "constraint-refused",
        "the rows break a unique constraint of the target: clear the old rows, or fix the source",
    ),
    ER.NO_REFERENCED_ROW_2: ("constraint-refused", "the rows point to rows that are not there: load those first"),
    ER.ROW_IS_REFERENCED_2: ("constraint-refused", "other rows point to the rows that would be removed"),
    ER.PARSE_ERROR: ("question-refused", "check the statement; only one can be asked at a time"),
    ER.NO_SUCH_TABLE: ("question-refused", "check table and column names with `ultravect look`"),
    ER.BAD_FIELD_ERROR: ("question-refused", "check table and column names with `ultravect look`"),
}


SESSION = (
    # values arrive as they are sent, or are refused
    "time_zone = '+00:00'",
    "sql_mode = 'TRADITIONAL,NO_AUTO_VALUE_ON_ZERO'",
    "sql_auto_is_null = 0",
    "foreign_key_checks = 1",
    "unique_checks = 1",
    # all rows are read, updated and counted, and a value that would be changed is heard of
    "sql_select_limit = 18446744073709551615",
    "sql_safe_updates = 0",
    "max_error_count = 64",
    "sql_notes = 1",
    # expressions give the same on every server, and the catalogue's lists are whole
    "div_precision_increment = 4",
    "group_concat_max_len = 1048576",
    # a transaction is one, and lasts as long as its load
    "completion_type = 'NO_CHAIN'",
    "default_storage_engine = 'InnoDB'",
    "wait_timeout = 28800",
    "net_read_timeout = 3600",
    "net_write_timeout = 3600",
)
"""What each session sets, whatever the server's own settings are."""

_MARIADB_ONLY = "tx_isolation = 'REPEATABLE-READ', check_constraint_checks = 1, max_statement_time = 0, old_mode = 'UTF8_IS_UTF8MB3'"
# what is in such a comment only the one or the other server reads, each from a version on
_STARTED = (
    f"SET SESSION {', SESSION '.join(SESSION)} /*M!100500 , {_MARIADB_ONLY} */ "
    "/*!50720 , SESSION transaction_isolation = 'REPEATABLE-READ' */"
)
_SIGN_INS = {
    "read_default_file": str(Path(__file__).with_name("client.cnf")),
    "read_default_group": "ultravect-unverified",
}


class Session(MySQLdb.connections.Connection):  # type: ignore[misc]
    """A driver's connection that gives its server no local file but those that it is offered."""

    files: LocalFiles | None = None

    def query(self, query: bytes | bytearray | str) -> None:
        with noted(query) as ran:
            super().query(query)
            affected = self.affected_rows()
            # an answer that is not read yet has all bits set
            ran.rows = affected if affected < 1 << 62 else 0

    def set_character_set(self, charset: str, collation: str = "") -> None:
        # the first thing that the driver asks a server: a hostile one could answer by asking for a file
        if self.files is None:
            self.files = LocalFiles(self)
        super().set_character_set(charset, collation)


def _tls(settings: MariadbSettings) -> dict[str, Any]:
    match settings.tls:
        case "off":
            return {"ssl_mode": "DISABLED", **_SIGN_INS}
        case "preferred" | "required":
            # to this client it means: wherever the server offers it; what came of it is looked at afterwards
            return {"ssl_mode": "REQUIRED", **_SIGN_INS}
    authority = certificate_file(settings.tls_ca) if settings.tls_ca else "/etc/ssl/certs/ca-certificates.crt"
    return {"ssl_mode": "VERIFY_IDENTITY", "ssl": {"ca": authority}}


def sign_in(name: str, settings: MariadbSettings, *, also: Sequence[str] = (), **options: Any) -> Any:
    """A session in UTC and UTF-8, or an UltravectError that says what the server refused. ``also``: what else it sets."""
    # "localhost" would mean a socket to the client; a port was named
    host = "127.0.0.1" if settings.host == "localhost" else settings.host
    try:
        opened = Session(
            host=host,
            port=settings.port,
            user=settings.user,
            password=str(settings.password),
            database=settings.database,
            charset="utf8mb4",
            connect_timeout=_SECONDS,
            read_timeout=_READ_SECONDS,
            autocommit=True,
            multi_statements=False,
            **_tls(settings),
            **{"local_infile": 0, **options},
        )
        if settings.tls in ("required", "verified") and not cipher(opened):
            opened.close()
            raise UltravectError(
                "no-tls",
                f"connection {name}: the server offers no TLS ({settings.host}:{settings.port}), and the connection requires it",
                hint="switch TLS on in the server, or set tls: preferred",
                connection=name,
            )
        opened.query(", ".join([_STARTED, *also]).encode())
        return opened
    except MySQLdb.Error as error:
        number = error.args[0] if error.args else 0
        message = str(error.args[-1]) if error.args else str(error)
        where = f"{settings.host}:{settings.port}"
        if number in _REFUSALS:
            code, detail, hint = _REFUSALS[number]
            text = detail.format(user=settings.user, database=settings.database)
            raise UltravectError(code, f"connection {name}: {text} ({where})", hint=hint, connection=name) from None
        for step in network_steps(name, settings.host, settings.port):
            step.run()
        if "restricted_auth" in message:
            raise UltravectError(
                "sign-in-unsafe",
                f"connection {name}: the server ({where}) asks for a way to sign in that would show it the password",
                hint="set tls: verified, by which the server proves that it is the right one",
                connection=name,
            ) from None
        if "certificate" in message.lower():
            raise UltravectError(
                "certificate-refused",
                f"connection {name}: the server's certificate does not verify: {message} ({where})",
                hint="set tls_ca to the certificate of its authority, or set tls: required",
                connection=name,
            ) from None
        if "SSL" in message or "TLS" in message:
            raise UltravectError(
                "no-tls",
                f"connection {name}: no TLS with this server: {message} ({where})",
                hint="set tls: off, or switch TLS on in the server",
                connection=name,
            ) from None
        raise UltravectError(
            "sign-in-failed",
            f"connection {name}: signing in at {where} failed: {message}",
            hint="check the connection's settings",
            connection=name,
        ) from None


@contextmanager
def session(name: str, settings: MariadbSettings, doing: str, **options: Any) -> Iterator[Any]:
    """A session for as long as the context lasts; ``doing`` completes "while …" in errors.

    ``options`` are the driver's own.
    """
    opened = sign_in(name, settings, **options)
    try:
        with translated(name, doing):
            yield opened
    finally:
        opened.close()


@contextmanager
def translated(name: str, doing: str) -> Iterator[None]:
    """Errors of the server become UltravectError."""
    try:
        yield
    except MySQLdb.Error as error:
        raise translate(error, name, doing) from None


class IdleSession:
    """A session that is kept between questions: signing in with TLS takes the C client a tenth of a second of computing.

    Questions that come at once have sessions of their own; one of them is kept.
    """

    def __init__(self, name: str, settings: MariadbSettings) -> None:
        self._name = name
        self._settings = settings
        self._kept: list[Any] = []

    @contextmanager
    def session(self, doing: str) -> Iterator[Any]:
        """A session for as long as the context lasts; ``doing`` completes "while …" in errors."""
        opened = self._kept_one() or sign_in(self._name, self._settings, local_infile=1)
        try:
            yield opened
        except MySQLdb.Error as error:
            opened.close()
            raise translate(error, self._name, doing) from None
        except BaseException:
            opened.close()
            raise
        if self._kept:
            opened.close()
        else:
            self._kept.append(opened)

    def take(self, sets: Sequence[str]) -> Any:
        """A session that is the caller's from now on, and is given files: the kept one, in which nothing but the catalogue was asked, or a
        new one. ``sets``: what is set in it."""
        opened = self._kept_one()
        if opened is None:
            return sign_in(self._name, self._settings, also=sets, local_infile=1)
        opened.query(f"SET {', '.join(sets)}".encode())
        return opened

    def _kept_one(self) -> Any:
        """The session that was kept, if its server still answers."""
        try:
            opened = self._kept.pop()
        except IndexError:
            return None
        try:
            opened.ping()
            return opened
        except MySQLdb.Error:
            opened.close()
            return None


def translate(error: Any, name: str, doing: str) -> UltravectError:
    """What a database error means for the user."""
    number = error.args[0] if error.args else 0
    message = str(error.args[-1]) if error.args else str(error)
    if number in LOST:
        return UltravectError(
            "connection-lost",
            f"connection {name}: the connection to the database was lost while {doing}",
            hint="see whether the database is up, then run again",
            connection=name,
        )
    code, hint = _NEVER_READ.get(number, ("database-error", ""))
    if number in REFUSED:
        code, hint = (
            "constraint-refused",
            hint or "fix the source or the constraint, or tolerate such rows with into.rejects",
        )
    return UltravectError(
        code, f"connection {name}, while {doing}: {message}", hint=hint, connection=name, errno=number
    )


class SessionStatements:
    """See ``Statements``."""

    def __init__(self, opened: Any) -> None:
        self.session = opened

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        with self.session.cursor() as cursor:
            cursor.execute(statement)
            rows: Sequence[Sequence[Any]] = cursor.fetchall()
        return rows

    def changed(self, statement: str) -> int:
        with self.session.cursor() as cursor:
            cursor.execute(statement)
            return int(cursor.rowcount)


LOCK_SECONDS = 60


@contextmanager
def transaction(name: str, settings: MariadbSettings, doing: str) -> Iterator[SessionStatements]:
    """A transaction in a session of its own: leaving the context commits, an error undoes it."""
    with session(name, settings, doing) as opened:
        statements = SessionStatements(opened)
        statements.changed(f"SET SESSION innodb_lock_wait_timeout = {LOCK_SECONDS}")
        statements.changed("START TRANSACTION")
        try:
            yield statements
            opened.commit()
        finally:
            opened.rollback()
