"""Messages between the service and a worker that joins by HTTPS: small, typed, and never more at once than a side may hold.

Both sides say JSON objects of at most ``MAX_MESSAGE`` bytes. Long texts go in parts. Of what processes say, no more than ``WINDOW``
characters are on their way for each: the service says how much it has taken, so that one process that is not listened to holds up no other.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from ultravect.service.work.processes.messages import MAX_LINE

MAX_MESSAGE = 1 << 20
MAX_ANSWER = 64 << 20
"""The longest answer of a look, in characters."""

WINDOW = 4 << 20
_PART = 128 << 10  # characters: written as JSON, six bytes each at most
_Number = Annotated[int, Field(ge=0, lt=2**53)]


class _Envelope(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, frozen=True)


class ProcessState(_Envelope):
    """A process has started or ended."""

    process: _Number
    state: Literal["started", "ended"]


class ProcessPart(_Envelope):
    """A part of a line that a process says, the last one or not."""

    process: _Number
    part: str
    last: bool


class LookPart(_Envelope):
    """A part of the answer of a look."""

    look: _Number
    part: str
    last: bool


class LookEnd(_Envelope):
    """A look took too long, or its process ended without a word."""

    look: _Number
    state: Literal["late", "died"]


class Hello(_Envelope):
    """What a worker says first."""

    hello: Annotated[str, Field(max_length=100)]
    host: Annotated[str, Field(pattern=r"^[A-Za-z0-9._-]{1,64}:[0-9]{1,10}$")]
    sites: list[Annotated[str, Field(max_length=40)]] = Field(min_length=1, max_length=50)
    slots: int | bool


Heard = ProcessState | ProcessPart | LookPart | LookEnd
_HEARD: TypeAdapter[Heard] = TypeAdapter(Heard)


class BadMessage(ValueError):
    """What no worker of ours says: its connection is ended."""


def read_heard(text: str | bytes) -> Heard:
    """What a worker says to the service; BadMessage for anything else."""
    try:
        return _HEARD.validate_json(text)
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        raise BadMessage(f"{'.'.join(str(part) for part in first['loc'])}: {first['msg']}"[:300]) from None


def parts_of(text: str) -> Iterator[dict[str, Any]]:
    """A text as the parts of messages."""
    for at in range(0, max(len(text), 1), _PART):
        yield {"part": text[at : at + _PART], "last": at + _PART >= len(text)}


class Joined:
    """Parts put together; BadMessage beyond ``limit`` characters."""

    def __init__(self, limit: int = MAX_LINE) -> None:
        self._parts: list[str] = []
        self._size, self._limit = 0, limit

    def add(self, part: str, last: bool) -> str | None:
        """The whole text with its last part, None before."""
        self._size += len(part)
        if self._size > self._limit:
            raise BadMessage(f"a text of more than {self._limit:,} characters")
        self._parts.append(part)
        if not last:
            return None
        text, self._parts, self._size = "".join(self._parts), [], 0
        return text


class Window:
    """How many characters one side may still send; a text that is larger than the whole window may go when nothing else is on its way."""

    def __init__(self) -> None:
        self._open = 0
        self._changed = asyncio.Condition()

    async def reserve(self, size: int) -> None:
        async with self._changed:
            await self._changed.wait_for(lambda: not self._open or self._open + size <= WINDOW)
            self._open += size

    async def taken(self, size: int) -> None:
        async with self._changed:
            self._open = max(0, self._open - size)
            self._changed.notify_all()


class Pace:
    """Lets so many units through a second, and some at once after a pause: who sends more is read more slowly."""

    def __init__(self, per_second: float, at_once: float) -> None:
        self._rate, self._most, self._left = per_second, at_once, at_once
        self._seen = time.monotonic()

    async def spend(self, units: float) -> None:
        now = time.monotonic()
        self._left = min(self._most, self._left + (now - self._seen) * self._rate)
        self._seen = now
        self._left -= units
        if self._left < 0:
            await asyncio.sleep(-self._left / self._rate)
