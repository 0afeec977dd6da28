"""`ultravect feed …`: files of many providers, and what became of them."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import cell, print_json, print_table, screen, size
from ultravect.client import FeedDays, FeedFile

app = typer.Typer(help="Feeds: files of one kind from many providers.", no_args_is_help=True)

_STATES = {"loaded": "green", "found": "dim", "failed": "red", "unmatched": "yellow", "disputed": "yellow"}
_MARKS = {"loaded": "✓", "found": "·", "failed": "✗", "unmatched": "?", "disputed": "?"}
_DAYS = 7


@app.command("list")
def list_feeds(search: str = "", as_json: Json = False) -> None:
    """List feeds, with how many files came."""
    with connect() as client:
        found = client.feeds(search=search)
    if as_json:
        print_json(found)
    elif not found:
        screen.print("no feeds yet; save one: ultravect save feed.yaml")
    else:
        print_table(
            ["feed", "connection", "providers", "files", "expected", "about"],
            [
                (
                    item.name,
                    item.connection,
                    str(len(item.providers)),
                    _counted(item.files),
                    item.expected,
                    escape(item.about),
                )
                for item in found
            ],
            right=["providers"],
        )


def _counted(files: dict[str, int]) -> str:
    return (
        ", ".join(f"[{_STATES[state]}]{count:,} {state}[/]" for state, count in files.items()) or "[dim]none yet[/]"
    )


@app.command("show")
def show(
    name: str,
    days: Annotated[int, typer.Option(min=1, max=92, help="How many days to show.")] = _DAYS,
    file: Annotated[bool, typer.Option("--file", help="Show the feed's file too.")] = False,
    as_json: Json = False,
) -> None:
    """Show a feed: its providers by days, what came, what is missing, and what did not fit."""
    with connect() as client:
        found = client.feed(name)
        by_days = client.feed_days(name, days=days)
        aside = [item for state in ("unmatched", "disputed") for item in client.feed_files(name, state=state).items]
    if as_json:
        print_json({"feed": found.model_dump(mode="json"), "days": by_days.model_dump(mode="json")})
        return
    expected = f", expected {found.expected}" if found.expected else ""
    screen.print(
        f"{name}, revision {found.revision}, from {found.connection}{expected}: {escape(found.about)}", soft_wrap=True
    )
    _print_days(by_days)
    for item in aside:
        screen.print(f"[yellow]{item.state}[/] {escape(item.path)}: {escape(item.reason)}", soft_wrap=True)
    if aside:
        screen.print(f"[dim]draft a version from one: ultravect feed draft {name} FILE[/]")
    if file:
        screen.print(f"\n{escape(found.file.rstrip())}", soft_wrap=True)


def _print_days(days: FeedDays) -> None:
    rows = []
    for provider in days.providers:
        cells = []
        for day in provider.days:
            marks = " ".join(f"[{_STATES[state]}]{_MARKS[state]}{count}[/]" for state, count in day.files.items())
            cells.append(marks or ("[red]missing[/]" if day.missing else ""))
        rows.append((escape(provider.name) or "[dim]no provider[/]", *cells))
    print_table(["provider", *(day[5:] for day in days.days)], rows)


@app.command("files")
def files(
    name: str,
    state: Annotated[str, typer.Option(help="Only these: found, loaded, failed, unmatched or disputed.")] = "",
    provider: Annotated[str, typer.Option(help="Only of this provider.")] = "",
    search: Annotated[str, typer.Option(help="Only paths with this in them.")] = "",
    limit: Annotated[int, typer.Option(help="At most this many.")] = 50,
    as_json: Json = False,
) -> None:
    """List the files of a feed: whose each is, which run has loaded it, with how many rows."""
    with connect() as client:
        found = client.feed_files(
            name, state=state, provider=provider, search=search, page_size=max(1, min(limit, 200))
        )
    if as_json:
        print_json(found)
        return
    if not found.items:
        screen.print("no such files yet: they are entered by runs of the feed's jobs")
        return
    print_table(
        ["file", "size", "provider", "version", "state", "run", "rows", "rejected", "reason"],
        [_line(item) for item in found.items],
        right=["size", "version", "run", "rows", "rejected"],
    )
    if found.total > len(found.items):
        screen.print(f"[dim]{len(found.items)} of {found.total:,}; raise --limit, or narrow it[/]")


def _line(item: FeedFile) -> Sequence[str]:
    return (
        cell(item.path),
        size(item.size),
        item.provider,
        str(item.version or ""),
        f"[{_STATES[item.state]}]{item.state}[/]",
        str(item.run or ""),
        f"{item.rows:,}" if item.run else "",
        f"{item.rejected:,}" if item.rejected else "",
        escape(item.reason[:90]),
    )


@app.command("draft")
def draft(
    name: str,
    path: Annotated[str, typer.Argument(metavar="FILE", help="A file that fits no version yet.")],
    provider: Annotated[str, typer.Option(help="Whose version it is to be. Left out: as the register says.")] = "",
    as_json: Json = False,
) -> None:
    """Write the lines of a new version from a file that does not fit, to be put into the feed's file."""
    with connect() as client:
        text = client.draft_feed_version(name, path, provider=provider)
    if as_json:
        print_json({"file": text})
    else:
        sys.stdout.write(text)


@app.command("remove")
def remove(name: str, as_json: Json = False) -> None:
    """Remove a feed that no job names."""
    with connect() as client:
        client.remove_feed(name)
    if as_json:
        print_json({"removed": name})
    else:
        screen.print(f"removed feed {name}")
