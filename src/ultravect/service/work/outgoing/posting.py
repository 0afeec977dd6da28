"""What is sent to others: to addresses, which may not answer, answer slowly for ever, or redirect to where it was not meant to go; and to files."""

from __future__ import annotations

import asyncio
import os

import httpx

_SECONDS = 15.0


def post(address: str, body: bytes, headers: dict[str, str]) -> None:
    """Sends a body once. ValueError where the answer is no success; OSError or httpx.HTTPError where there is none."""
    asyncio.run(_post(address, body, headers))


def append_line(path: str, line: bytes) -> None:
    """Adds a line to a file that other processes add to as well; OSError where that cannot be."""
    number = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o640)
    try:
        # one write, so that lines stay whole
        os.write(number, line + b"\n")
    finally:
        os.close(number)


async def _post(address: str, body: bytes, headers: dict[str, str]) -> None:
    try:
        # over all of it: the limits of the client are for each read, and one byte at a time is always in time
        async with asyncio.timeout(_SECONDS):
            # who redirects it would get what is in it: that is refused; and of its body nothing is read
            async with (
                httpx.AsyncClient(timeout=_SECONDS, follow_redirects=False, trust_env=False) as client,
                client.stream("POST", address, content=body, headers=headers) as answer,
            ):
                if not answer.is_success:
                    raise ValueError(f"the address answered {answer.status_code} {answer.reason_phrase}")
    except httpx.ConnectError as error:
        raise ConnectionError(_first_cause(error)) from None
    except TimeoutError:
        raise TimeoutError(f"there was no answer within {_SECONDS:.0f} seconds") from None


def _first_cause(error: BaseException) -> str:
    """What the system said, rather than that something did not work."""
    while True:
        if isinstance(error, BaseExceptionGroup):
            error = error.exceptions[0]
        elif (cause := error.__cause__ or error.__context__) is not None:
            error = cause
        else:
            # names and certificates have numbers of their own
            if (isinstance(error, ConnectionError) or type(error) is OSError) and error.errno:
                return os.strerror(error.errno)
            return " ".join(str(error).split()) or type(error).__name__
