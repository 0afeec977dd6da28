"""Files of declarations: `save`, and the job files that other commands are given.

The models of the core are imported here alone: most commands need none of them.
"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import errors, print_edit, print_json, print_problem, screen
from ultravect.client import ApiError, Client, Connection, Feed, Job, Layout
from ultravect.core.model.document import (
    CONNECTION,
    FEED,
    LAYOUT_FILE,
    DeclarationError,
    Document,
    declared_in,
    job_from_data,
    read_documents,
)
from ultravect.core.model.edits import with_edits

_ENDINGS = (".yaml", ".yml")


def _files(paths: list[Path]) -> list[Path]:
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(file for file in path.rglob("*") if file.suffix in _ENDINGS)
        elif path.exists():
            found.append(path)
        else:
            raise typer.BadParameter(f"there is no file {path}")
    return found


def _read(path: Path) -> str:
    try:
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise typer.BadParameter(f"{path} cannot be read: {error}") from None


def _print_file_problems(path: Path, error: DeclarationError) -> None:
    for problem in error.problems:
        print_problem(f"{path}: {problem}", problem.hint)
        if problem.edit:
            print_edit(problem.edit, errors)


def _store(client: Client, document: Document) -> tuple[Job | Connection | Feed | Layout, str]:
    """Stores what a document declares; gives it, and what to say of it."""
    match declared_in(document.data):
        case "connection":
            connection = CONNECTION.read(document.data, document.lines)
            kept = client.save_connection(connection.connection, document.text)
            return kept, f"connection {kept.name}"
        case "feed":
            feed = client.save_feed(FEED.read(document.data, document.lines).feed, document.text)
            return feed, f"feed {feed.name}, revision {feed.revision}"
        case "layout":
            layout = client.save_layout(LAYOUT_FILE.read(document.data, document.lines).layout, document.text)
            return layout, f"layout {layout.name}, version {layout.version}"
    job = client.save_job(job_from_data(document.data, document.lines).job, document.text)
    return job, f"job {job.name}, revision {job.revision}"


def save(
    paths: Annotated[
        list[Path],
        typer.Argument(metavar="FILE|FOLDER…", help="Job, connection, feed and layout files, or folders of them."),
    ],
    as_json: Json = False,
) -> None:
    """Store job, connection, feed and layout files in the service; a changed one becomes a new revision or version."""
    saved: list[Job | Connection | Feed | Layout] = []
    failed = 0
    with connect() as client:
        for path in _files(paths):
            try:
                text = _read(path)
                for document in read_documents(text):
                    stored, shown = _store(client, document)
                    saved.append(stored)
                    if not as_json:
                        screen.print(f"saved {shown}")
            except DeclarationError as error:
                failed += 1
                error.problems = with_edits(error.problems, text)
                _print_file_problems(path, error)
            except ApiError as error:
                if error.status in (401, 403):
                    raise
                failed += 1
                print_problem(f"{path}: {error.detail}", error.hint)
    if as_json:
        print_json(saved)
    if failed:
        raise typer.Exit(1)


def job_text(path: Path, as_json: bool) -> str:
    """The text of a job file. Ends the command where the file has problems."""
    if not path.is_file():
        raise typer.BadParameter(f"there is no file {path}")
    text = _read(path)
    try:
        for document in read_documents(text):
            job_from_data(document.data, document.lines)
    except DeclarationError as error:
        error.problems = with_edits(error.problems, text)
        if as_json:
            print_json({"passed": False, "problems": [problem.as_dict() for problem in error.problems]})
        else:
            _print_file_problems(path, error)
        raise typer.Exit(1) from None
    return text
