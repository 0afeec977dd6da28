"""Why a lake cannot do what was asked: the errors of the format's library, in our words."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.commits import CommitNotedError

# of a catalogue: what its library's errors mean; the first name that fits counts
_OF_CATALOGUE = (
    (
        "CommitStateUnknown",
        "outcome-unknown",
        "no answer says whether the commit took place",
        "run it again: the receipt says it",
    ),
    ("Unauthorized", "sign-in-failed", "the catalogue refuses to sign in", "check catalogue_secret"),
    ("OAuthError", "sign-in-failed", "the catalogue refuses to sign in", "check catalogue_secret"),
    (
        "Forbidden",
        "not-allowed",
        "the catalogue does not allow it",
        "have the account of catalogue_secret allowed to do it",
    ),
    ("NoSuchTable", "table-missing", "the catalogue no longer has the table", "look at the tables again"),
    ("ServerError", "lake-unreachable", "the catalogue failed", "see whether the catalogue is up"),
    ("ServiceUnavailable", "lake-unreachable", "the catalogue is not up", "try again when the catalogue is up"),
    ("TooManyRequests", "lake-unreachable", "the catalogue is too busy", "try again in a moment"),
)
_LIBRARIES = ("sqlalchemy.", "requests.")


@contextmanager
def explained(connection: str, path: str) -> Iterator[None]:
    """The library's errors, as ours."""
    from deltalake.exceptions import DeltaError

    def error(code: str, detail: str, hint: str) -> UltravectError:
        return UltravectError(
            code, f"connection {connection}: {detail}", hint=hint, connection=connection, table=path
        )

    try:
        yield
    except DeltaError as raised:
        text = " ".join(str(raised).split())[:300]
        if type(raised).__name__ == "DeltaProtocolError" or "eature" in text or "protocol" in text.lower():
            raise error(
                "table-feature", f"{path} uses what is not supported here: {text}", "use a table without it"
            ) from None
        if "No space left" in text:
            raise error("target-full", f"{path}: {text}", "free disk space in the target") from None
        if "appendOnly" in text or "append only" in text.lower().replace("-", " "):
            raise error("table-append-only", f"{path} only takes new rows: {text}", "write by append") from None
        raise error("table-damaged", f"{path} cannot be read: {text}", "is a file of its log missing?") from None
    except (OSError, pa.ArrowException) as raised:
        text = " ".join(str(raised).split())[:300]
        raise error("lake-unreachable", f"{path}: {text}", "check the place, and what may be done there") from None
    except Exception as raised:
        if (refused := _catalogue_error(raised)) is not None:
            code, detail, hint = refused
            raise error(code, f"{path}: {detail}", hint) from None
        # the library's own panics and value errors: the log of a table is what others wrote
        if isinstance(raised, UltravectError | CommitNotedError):
            raise
        if isinstance(raised, NotImplementedError) or "not yet support" in str(raised):
            what = str(raised).partition(":")[0]
            raise error(
                "table-feature", f"{path} uses what is not supported here: {what}", "use a table without it"
            ) from None
        text = " ".join(str(raised).split())[:300]
        raise error("table-damaged", f"{path} cannot be read: {text}", "is a file of its log missing?") from None


def _catalogue_error(raised: Exception) -> tuple[str, str, str] | None:
    """Code, detail and hint of what the catalogue of an Iceberg table said; None for all else."""
    kind = type(raised)
    said = " ".join(str(raised).split())[:300]
    if kind.__module__ == "pyiceberg.exceptions":
        for name, code, detail, hint in _OF_CATALOGUE:
            if kind.__name__.startswith(name):
                return code, f"{detail}: {said}", hint
    if kind.__module__.startswith(_LIBRARIES):
        # what was sent stands after the reason, and is not to be shown
        reason = said.partition("[SQL:")[0].strip()
        if "password authentication failed" in reason:
            return "sign-in-failed", f"the catalogue refuses to sign in: {reason}", "check user and catalogue_secret"
        return "lake-unreachable", f"the catalogue cannot be asked: {reason}", "check catalogue, and whether it is up"
    return None
