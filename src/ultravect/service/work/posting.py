"""POST to addresses of others, which may not answer, answer slowly for ever, or redirect to where it was not meant to go."""

from __future__ import annotations

import asyncio

import httpx

_SECONDS = 15.0


def post(address: str, body: bytes, headers: dict[str, str]) -> None:
    """Sends a body once. ValueError where the answer is no success, httpx.HTTPError or TimeoutError (an OSError) where there is none."""
    asyncio.run(_post(address, body, headers))


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
    except TimeoutError:
        raise TimeoutError(f"there was no answer within {_SECONDS:.0f} seconds") from None
