"""`edit` a job in one's own editor, and `diff`: what differs between its file and what is saved, or between two revisions."""

from __future__ import annotations

import difflib
import os
import shlex
import subprocess
import tempfile
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.commands.files import job_text, problems_of_job
from ultravect.cli.login import connect
from ultravect.cli.options import JobName, JobOrFile, Json
from ultravect.cli.output import print_json, screen
from ultravect.client import Client

_ENDINGS = (".yaml", ".yml")
_COLOURS = {"+": "green", "-": "red", "@": "cyan"}


def differing(before: str, after: str, names: tuple[str, str]) -> list[str]:
    """Lines of a unified diff; none where the texts are alike."""
    return list(difflib.unified_diff(before.splitlines(), after.splitlines(), *names, lineterm=""))


def _print(lines: list[str]) -> None:
    for line in lines:
        colour = _COLOURS.get(line[:1])
        screen.print(f"[{colour}]{escape(line)}[/]" if colour else escape(line), soft_wrap=True)


def diff(
    what: JobOrFile,
    first: Annotated[int | None, typer.Argument(metavar="[REVISION]", help="Left out: the newest.", min=1)] = None,
    second: Annotated[int | None, typer.Argument(metavar="[REVISION]", min=1)] = None,
    as_json: Json = False,
) -> None:
    """Show what differs between a job file and what is saved, or between two revisions of a job."""
    path = Path(what)
    with connect() as client:
        if path.suffix in _ENDINGS or path.exists():
            text = job_text(path, as_json)
            from ultravect.core.model.document import read_job

            name = read_job(text)[0].job
            saved = client.job(name)
            number = first or saved.revision
            before, after = _revision(client, name, number), text
            names = (f"{name} revision {number}", str(path))
        else:
            saved = client.job(what)
            two = second or saved.revision
            one = first or max(1, two - 1)
            before, after = _revision(client, what, one), _revision(client, what, two)
            names = (f"{what} revision {one}", f"{what} revision {two}")
    lines = differing(before, after, names)
    if as_json:
        print_json({"before": names[0], "after": names[1], "lines": lines})
    elif names[0] == names[1]:
        screen.print(
            f"there is one revision of {what} only; compare a file with it: ultravect diff job.yaml", soft_wrap=True
        )
    elif not lines:
        screen.print(f"{names[0]} and {names[1]} are alike", soft_wrap=True)
    else:
        _print(lines)


def _revision(client: Client, name: str, number: int) -> str:
    for revision in client.revisions(name):
        if revision.number == number:
            return revision.file
    raise typer.BadParameter(f"job {name} has no revision {number}")


def edit(name: JobName, as_json: Json = False) -> None:
    """Edit a job in $VISUAL or $EDITOR, see what changes, and save it as a new revision."""
    with connect() as client:
        job, etag = client.job_to_edit(name)
        text = job.file
        while True:
            text = _edited(text, name)
            if text == job.file:
                screen.print("nothing was changed")
                return
            if problems_of_job(Path(f"{name}.yaml"), text):
                if typer.confirm("edit it again?", default=True):
                    continue
                raise typer.Exit(1)
            break
        if not as_json:
            _print(differing(job.file, text, (f"revision {job.revision}", f"revision {job.revision + 1}")))
            if not typer.confirm(f"save it as revision {job.revision + 1}?", default=True):
                kept = Path(tempfile.gettempdir()) / f"{name}.yaml"
                kept.write_text(text, "utf-8")
                screen.print(f"not saved; what you wrote is in {kept}", soft_wrap=True)
                return
        saved = client.replace_job(name, text, etag)
    if as_json:
        print_json(saved)
    else:
        screen.print(f"saved job {saved.name}, revision {saved.revision}; run it: ultravect run {saved.name}")


def _edited(text: str, name: str) -> str:
    editor = os.environ.get("VISUAL") or os.environ.get("EDITOR") or "vi"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{name}.yaml"
        path.write_text(text, "utf-8")
        try:
            done = subprocess.run([*shlex.split(editor), str(path)], check=False)
        except OSError as error:
            raise typer.BadParameter(
                f"the editor {editor!r} cannot be started: {error}; set VISUAL or EDITOR"
            ) from None
        if done.returncode:
            raise typer.BadParameter(f"the editor {editor!r} ended with {done.returncode}; nothing was saved")
        return path.read_text("utf-8")
