"""Writes the client for asyncio from the one that waits: the same methods, with the same signatures, each awaited."""

from __future__ import annotations

import inspect
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent

# written by hand in the template: what goes on while it is awaited
_OWN = ("close", "follow", "watch")
_HEAD = '''"""The client for asyncio: written by `./dev api` from the methods of ``Client``. Do not edit."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from datetime import date
from types import TracebackType
from typing import Any, BinaryIO, TypeVar

from ultravect.client.client import Client
from ultravect.client.models import {models}

Given = TypeVar("Given")


class AsyncClient:
    """``Client`` for asyncio: each method is a coroutine, and lists are gone through by ``async for``.

    Requests are made by threads, so that nothing else waits for them.
    """

    def __init__(self, url: str, *, token: str | None = None, timeout: float = 120) -> None:
        self._client = Client(url, token=token, timeout=timeout)

    async def __aenter__(self) -> AsyncClient:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._client.close()

    @staticmethod
    async def _awaited(call: Callable[..., Given], *args: Any, **kwargs: Any) -> Given:
        return await asyncio.to_thread(call, *args, **kwargs)

    async def follow(self, run: int) -> AsyncIterator[Event]:
        """Events as they happen, from the beginning to the end of the run."""
        events = await asyncio.to_thread(self._client.follow, run)
        while True:
            event = await asyncio.to_thread(next, events, None)
            if event is None:
                return
            yield event
'''


def made() -> str:
    """The text of the module."""
    from ultravect.client import models
    from ultravect.client.client import Client

    methods = [
        (name, method)
        for name, method in inspect.getmembers(Client, inspect.isfunction)
        if not name.startswith("_") and name not in _OWN
    ]
    text = _HEAD.format(models=", ".join(sorted(set(models.__all__))))
    for name, method in sorted(methods):
        text += f"\n    {_method(name, method)}"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "asynchronous.py"
        path.write_text(text)
        for tidied in (["check", "--select", "I,F401,UP", "--fix", "-q"], ["format", "-q"]):
            command = [sys.executable, "-m", "ruff", *tidied, "--config", str(ROOT / "pyproject.toml"), str(path)]
            subprocess.run(command, check=True)
        return path.read_text()


def _method(name: str, method: Any) -> str:
    signature = inspect.signature(method)
    shown, given = [], []
    star = False
    for parameter in signature.parameters.values():
        kind = parameter.kind
        if parameter.name == "self":
            shown.append("self")
            continue
        only = kind is inspect.Parameter.KEYWORD_ONLY
        if only and not star:
            star = True
            shown.append("*")
        usual = "" if parameter.default is inspect.Parameter.empty else f" = {parameter.default!r}"
        shown.append(f"{parameter.name}: {parameter.annotation}{usual}")
        given.append(f"{parameter.name}={parameter.name}" if only else parameter.name)
    about = inspect.getdoc(method)
    lines = [f"async def {name}({', '.join(shown)}) -> {signature.return_annotation}:"]
    if about:
        lines.append(f'    """{about}"""'.replace("\n", "\n    "))
    call = ", ".join([f"self._client.{name}", *given])
    lines.append(f"    return await self._awaited({call})")
    return "\n    ".join(line.replace("\n", "\n    ") for line in lines) + "\n"
