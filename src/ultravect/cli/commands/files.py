"""Files of declarations: `save`, and the job files that other commands are given.

The models of the core are imported here alone: most commands need none of them.
"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.declared import (
    KINDS,
    Declaration,
    Difference,
    declaration_of,
    differences,
    held,
    in_order,
    remove,
)
from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import errors, print_edit, print_json, print_problem, screen
from ultravect.client import ApiError, Client, Connection, Feed, Job, Layout
from ultravect.core.model.document import DeclarationError, job_from_data, read_documents
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


def _store(client: Client, item: Declaration) -> tuple[Job | Connection | Feed | Layout, str]:
    """Stores what a document declares; gives it, and what to say of it."""
    match item.kind:
        case "connection":
            kept = client.save_connection(item.name, item.text)
            return kept, f"connection {kept.name}"
        case "feed":
            feed = client.save_feed(item.name, item.text)
            return feed, f"feed {feed.name}, revision {feed.revision}"
        case "layout":
            layout = client.save_layout(item.name, item.text)
            return layout, f"layout {layout.name}, version {layout.version}"
    job = client.save_job(item.name, item.text)
    return job, f"job {job.name}, revision {job.revision}"


def _declared(paths: list[Path]) -> tuple[dict[Declaration, Path], int]:
    """What files declare, each with its file; and how many files have problems, which are shown."""
    found: dict[Declaration, Path] = {}
    failed = 0
    for path in _files(paths):
        text = _read(path)
        try:
            for document in read_documents(text):
                found[declaration_of(document)] = path
        except DeclarationError as error:
            failed += 1
            error.problems = with_edits(error.problems, text)
            _print_file_problems(path, error)
    return found, failed


def save(
    paths: Annotated[
        list[Path],
        typer.Argument(metavar="FILE|FOLDER…", help="Job, connection, feed and layout files, or folders of them."),
    ],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show what would change.")] = False,
    prune: Annotated[
        bool, typer.Option("--prune", help="Remove what the service has and the files do not declare.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Store job, connection, feed and layout files in the service; a changed one becomes a new revision or version."""
    found, failed = _declared(paths)
    with connect() as client:
        if dry_run:
            _show(differences(client, list(found), prune=prune), as_json)
            if failed:
                raise typer.Exit(1)
            return
        if prune and failed:
            screen.print("nothing was saved or removed: correct the files first", soft_wrap=True)
            raise typer.Exit(1)
        gone = (
            [item for item in differences(client, list(found), prune=True) if item.what == "removed"] if prune else []
        )
        saved: list[Job | Connection | Feed | Layout] = []
        for item in in_order(found):
            try:
                stored, shown = _store(client, item)
            except ApiError as error:
                if error.status in (401, 403):
                    raise
                failed += 1
                print_problem(f"{found[item]}: {error.detail}", error.hint)
                continue
            saved.append(stored)
            if not as_json:
                screen.print(f"saved {shown}")
        # jobs before what they name
        waiting, again = list(reversed(gone)) if not failed else [], set[str]()
        while waiting:
            left = waiting.pop(0)
            try:
                remove(client, left.kind, left.name)
            except ApiError as error:
                # another connection that goes as well may still name it
                if error.code != "connection-in-use" or left.name in again or not waiting:
                    raise
                again.add(left.name)
                waiting.append(left)
                continue
            if not as_json:
                screen.print(f"removed {left.kind} {left.name}")
    if as_json:
        print_json(saved)
    if failed:
        raise typer.Exit(1)


_SIGNS = {"new": "[green]+[/]", "changed": "[yellow]~[/]", "removed": "[red]-[/]"}


def _show(found: list[Difference], as_json: bool) -> None:
    if as_json:
        print_json([{**item.__dict__, "lines": list(item.lines)} for item in found])
        return
    for item in found:
        screen.print(f"{_SIGNS[item.what]} {item.kind} {item.name}: {item.what}")
        for line in item.lines:
            screen.print(f"    {escape(line)}", soft_wrap=True)
    if not found:
        screen.print("nothing would change")


def export(
    folder: Annotated[
        Path, typer.Argument(metavar="FOLDER", help="Where the files go; it is made where it is missing.")
    ],
    as_json: Json = False,
) -> None:
    """Write all that is declared into files of a folder: connections, layouts, feeds and jobs, without sealed secrets."""
    written: list[str] = []
    with connect() as client:
        for kind in KINDS:
            for name, text in held(client, kind).items():
                path = folder / f"{kind}s" / f"{name}.yaml"
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text(), "utf-8")
                written.append(str(path))
    if as_json:
        print_json(written)
    else:
        screen.print(
            f"wrote {len(written)} files into {folder}; save them again: ultravect save {folder}", soft_wrap=True
        )


def job_text(path: Path, as_json: bool) -> str:
    """The text of a job file. Ends the command where the file has problems."""
    if not path.is_file():
        raise typer.BadParameter(f"there is no file {path}")
    text = _read(path)
    if problems_of_job(path, text, as_json):
        raise typer.Exit(1)
    return text


def problems_of_job(path: Path, text: str, as_json: bool = False) -> bool:
    """Whether the text of a job file has problems, which are shown with their lines."""
    try:
        for document in read_documents(text):
            job_from_data(document.data, document.lines)
    except DeclarationError as error:
        error.problems = with_edits(error.problems, text)
        if as_json:
            print_json({"passed": False, "problems": [problem.as_dict() for problem in error.problems]})
        else:
            _print_file_problems(path, error)
        return True
    return False
