"""`ultravect` alone: where one stands, and what to do first; `completion`: what the shell needs to complete commands."""

from __future__ import annotations

import sys
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.commands.today import print_today
from ultravect.cli.completion import VARIABLE
from ultravect.cli.login import Login, NotSignedIn, current
from ultravect.cli.output import print_problem, screen
from ultravect.client import ApiError, Client, ServiceUnreachable, Today

_FIRST = (
    (
        "ultravect connection add incoming folder path=/data/incoming",
        "name a place to copy from, and one to copy into",
    ),
    ("ultravect look incoming", "see what it holds"),
    ("ultravect draft --from incoming:huts.csv --into warehouse:hut > huts.yaml", "write a job, every column mapped"),
    ("ultravect save huts.yaml && ultravect run huts", "keep it, and run it"),
)


def standing() -> None:
    """Says where one is signed in, what there is to know now, and what to do first."""
    try:
        login = current()
    except NotSignedIn:
        screen.print("[bold]not signed in to a service[/]")
        screen.print("  ultravect login https://ultravect.huts.example   one that runs somewhere")
        screen.print("  ultravect serve                                  start one here")
        screen.print("[dim]all commands: ultravect --help[/]")
        return
    try:
        with Client(login.url, token=login.token) as client:
            _say(client, login)
    except ServiceUnreachable as error:
        print_problem(str(error), "start it: ultravect serve; or sign in elsewhere: ultravect login URL")
        raise typer.Exit(3) from None
    except ApiError as error:
        if error.status != 401:
            raise
        print_problem(f"{login.url} does not know who you are: {error.detail}", f"ultravect login {login.url}")
        raise typer.Exit(3) from None


def _say(client: Client, login: Login) -> None:
    me = client.me()
    found, jobs = client.today(), client.jobs()
    screen.print(
        f"[bold]{escape(me.name)}[/] ({me.role}) at {escape(login.url)}; {jobs.total:,} jobs", soft_wrap=True
    )
    if not jobs.total:
        screen.print("\nno job yet. The first one:")
        for command, what in _FIRST:
            screen.print(f"  {command}\n      [dim]{what}[/]", soft_wrap=True)
        screen.print(f"[dim]ten minutes, step by step: {login.url}/docs/tutorial/[/]", soft_wrap=True)
        return
    print_today(found)
    if first := _first(found):
        screen.print(f"\n[bold]first:[/] {escape(first)}", soft_wrap=True)


def _first(found: Today) -> str:
    """The command that helps most now."""
    if found.failed:
        # of several causes, the one for which most jobs wait
        waits = [name for item in found.waiting for name in item.waits_for]
        cause = max(found.failed, key=lambda cause: sum(waits.count(name) for name in cause.jobs))
        again = f"; then ultravect rerun {cause.runs[0]}" if found.waiting or len(cause.jobs) == 1 else ""
        return f"ultravect show {cause.runs[0]}{again}"
    if found.late:
        return f"ultravect runs --job {found.late[0].job}"
    return ""


def completion(
    shell: Annotated[str, typer.Argument(metavar="bash|zsh|fish", help="The shell that you use.")],
) -> None:
    """Print what a shell needs to complete commands, jobs, connections, objects and runs."""
    from typer._completion_shared import get_completion_script

    if shell not in ("bash", "zsh", "fish"):
        raise typer.BadParameter(f"bash, zsh or fish, not {shell!r}")
    sys.stdout.write(get_completion_script(prog_name="ultravect", complete_var=VARIABLE, shell=shell) + "\n")
