"""What the shell proposes when Tab is pressed: commands, and the names that the service knows; nothing while it does not answer."""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable
from contextlib import suppress
from typing import Any

VARIABLE = "_ULTRAVECT_COMPLETE"
"""Set by the shell when it asks for what could come next."""

_SECONDS = 2.0
_MOST = 200


def asked_words() -> list[str]:
    """The words of the line that is completed, without the program's name."""
    for name in ("_TYPER_COMPLETE_ARGS", "COMP_WORDS"):
        if line := os.environ.get(name, ""):
            with suppress(ValueError):
                return shlex.split(line)[1:]
    return []


def _known(find: Callable[[Any], list[str]]) -> list[str]:
    from ultravect.cli.login import current
    from ultravect.client import Client

    # a person who presses Tab wants no message: without a service there is nothing to propose
    with suppress(Exception):
        login = current()
        with Client(login.url, token=login.token, timeout=_SECONDS) as client:
            return find(client)
    return []


def jobs(incomplete: str) -> list[str]:
    found = _known(lambda client: [job.name for job in client.jobs(search=incomplete).items])
    return [name for name in found if name.startswith(incomplete)]


def connections(incomplete: str) -> list[str]:
    found = _known(lambda client: [one.name for one in client.connections()])
    return [name for name in found if name.startswith(incomplete)]


def objects(ctx: Any, incomplete: str) -> list[str]:
    """Of the connection that was named before."""
    connection = ctx.params.get("connection") or next(
        (word for word in asked_words()[1:] if not word.startswith("-")), ""
    )
    if not connection:
        return []
    found = _known(
        lambda client: [item["name"] for item in client.objects(connection, search=incomplete, limit=_MOST)["items"]]
    )
    return [name for name in found if name.startswith(incomplete)]


def runs(incomplete: str) -> list[tuple[str, str]]:
    found = _known(lambda client: [f"{run.id} {run.job}, {run.state}" for run in client.runs().items])
    pairs = [tuple(line.split(" ", 1)) for line in found]
    return [(number, about) for number, about in pairs if number.startswith(incomplete)]


def streams(incomplete: str) -> list[str]:
    found = _known(lambda client: [one.job for one in client.streams()])
    return [name for name in found if name.startswith(incomplete)]
