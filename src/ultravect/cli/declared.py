"""What the service has declared in it, as files of a folder, and what files would change of it."""

from __future__ import annotations

import difflib
import itertools
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from ultravect.client import ApiError, Client
from ultravect.core.model.document import (
    CONNECTION,
    FEED,
    LAYOUT_FILE,
    Document,
    declared_in,
    job_from_data,
    read_documents,
)

KINDS = ("connection", "layout", "feed", "job")
"""In the order in which they are saved: each may name those before it."""

MANAGED = "uploads"
"""The connection that the service keeps itself."""


@dataclass(frozen=True)
class Declaration:
    """What a document declares: its kind and name, its text, and those of its kind that have to be there before."""

    kind: str
    name: str
    text: str
    after: tuple[str, ...] = ()


def declaration_of(document: Document) -> Declaration:
    """DeclarationError where the document has problems."""
    kind = declared_in(document.data)
    match kind:
        case "connection":
            declared = CONNECTION.read(document.data, document.lines)
            # of a warehouse, the connection whose bucket it is loaded from
            staging = declared.settings.get("staging")
            after = (staging,) if isinstance(staging, str) else ()
            return Declaration(kind, declared.connection, document.text, after)
        case "feed":
            return Declaration(kind, FEED.read(document.data, document.lines).feed, document.text)
        case "layout":
            return Declaration(kind, LAYOUT_FILE.read(document.data, document.lines).layout, document.text)
    job = job_from_data(document.data, document.lines)
    return Declaration("job", job.job, document.text, tuple(job.run.after))


def in_order(found: Iterable[Declaration]) -> list[Declaration]:
    """What others name comes before them; jobs of a circle stay where they are, which the service refuses."""
    done: list[Declaration] = []
    for kind, group in itertools.groupby(
        sorted(found, key=lambda item: KINDS.index(item.kind)), lambda item: item.kind
    ):
        waiting = list(group)
        names = {item.name for item in waiting}
        while waiting:
            known = {item.name for item in done if item.kind == kind}
            ready = [item for item in waiting if not (set(item.after) & names) - known - {item.name}] or waiting
            done += ready
            waiting = [item for item in waiting if item not in ready]
    return done


def held(client: Client, kind: str) -> dict[str, Callable[[], str]]:
    """What the service has of a kind: by name, what gives its file."""

    def text(name: str) -> Callable[[], str]:
        return {
            "connection": lambda: client.connection_file(name),
            "layout": lambda: client.layout(name).file,
            "feed": lambda: client.feed(name).file,
            "job": lambda: client.job(name).file,
        }[kind]

    names = {
        "connection": lambda: [item.name for item in client.connections() if item.name != MANAGED],
        "layout": lambda: [item.name for item in client.layouts()],
        "feed": lambda: [item.name for item in client.feeds()],
        "job": lambda: _all_jobs(client),
    }[kind]()
    return {name: text(name) for name in names}


def _all_jobs(client: Client) -> list[str]:
    names: list[str] = []
    page = 1
    while True:
        found = client.jobs(page=page)
        names += [job.name for job in found.items]
        if page >= found.pages:
            return names
        page += 1


@dataclass(frozen=True)
class Difference:
    """What saving would do to one declaration: ``what`` is new, changed or removed; ``lines`` say how it changes."""

    what: str
    kind: str
    name: str
    lines: Sequence[str] = ()


def differences(client: Client, wanted: Sequence[Declaration], *, prune: bool) -> list[Difference]:
    """What saving these, and removing others where ``prune``, would change."""
    found: list[Difference] = []
    for kind in KINDS:
        there = held(client, kind)
        mine = {item.name: item for item in wanted if item.kind == kind}
        for name, item in mine.items():
            if name not in there:
                found.append(Difference("new", kind, name))
            elif not _same(kind, before := there[name](), item.text):
                found.append(Difference("changed", kind, name, _diff(before, item.text)))
        if prune:
            found += [Difference("removed", kind, name) for name in there if name not in mine]
    return found


def _same(kind: str, before: str, after: str) -> bool:
    """Whether saving would change nothing. Of a connection the service keeps settings, and what is left out stays as it is."""
    if before.strip() == after.strip():
        return True
    if kind != "connection":
        return False
    (was,), (wanted,) = ([document.data for document in read_documents(text)] for text in (before, after))
    settings = was.get("settings") or {}
    return (was["kind"], was.get("site", "")) == (wanted["kind"], wanted.get("site", "")) and all(
        settings.get(key) == value for key, value in (wanted.get("settings") or {}).items()
    )


def _diff(before: str, after: str) -> list[str]:
    lines = difflib.unified_diff(before.strip().splitlines(), after.strip().splitlines(), "", "", n=1, lineterm="")
    return list(lines)[2:]


def remove(client: Client, kind: str, name: str) -> None:
    """Removes one from the service; what is gone already is fine."""
    removes: dict[str, Callable[[str], None]] = {
        "connection": client.remove_connection,
        "layout": client.remove_layout,
        "feed": client.remove_feed,
        "job": client.remove_job,
    }
    try:
        removes[kind](name)
    except ApiError as error:
        if error.status != 404:
            raise
