"""Why a lake cannot do what was asked: the errors of the format's library, in our words."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.commits import CommitNotedError

if TYPE_CHECKING:
    pass


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
        # the library's own panics and value errors: the log of a table is what others wrote
        if isinstance(raised, UltravectError | CommitNotedError):
            raise
        text = " ".join(str(raised).split())[:300]
        raise error("table-damaged", f"{path} cannot be read: {text}", "is a file of its log missing?") from None
