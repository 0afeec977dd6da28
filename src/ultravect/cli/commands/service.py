"""`login`, and the commands that start the service: those are handed on to it."""

from __future__ import annotations

import os
import socket
import sys
from typing import Annotated, NoReturn

import typer

from ultravect.cli.login import Login, store
from ultravect.cli.options import Json
from ultravect.cli.output import print_json, screen
from ultravect.client import Client


def login(
    url: str,
    user: Annotated[str | None, typer.Option(help="Asked for when left out.")] = None,
    token: Annotated[str | None, typer.Option(help="Use this token and ask for nothing.")] = None,
    as_json: Json = False,
) -> None:
    """Sign in to a service, and remember it for the next commands."""
    url = url if "://" in url else f"http://{url}"
    if token is None:
        user = user or typer.prompt("user")
        interactive = sys.stdin.isatty()
        password = typer.prompt("password", hide_input=True) if interactive else sys.stdin.readline().rstrip("\n")
        with Client(url) as client:
            token = client.issue_token(user, password, f"login from {socket.gethostname()}").token
    with Client(url, token=token) as client:
        me = client.me()
    path = store(Login(url, token))
    if as_json:
        print_json({"url": url, "user": me.name, "role": me.role})
    else:
        screen.print(f"signed in to {url} as {me.name} ({me.role}); remembered in {path}", soft_wrap=True)


def hand_on(*arguments: str) -> NoReturn:
    """Becomes the service's own command."""
    os.execv(sys.executable, [sys.executable, "-m", "ultravect.service", *arguments])


def serve(
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen on.")] = 8484,
    slots: Annotated[int, typer.Option(help="Runs at once of the local worker; 0: none.")] = 2,
    root: Annotated[list[str] | None, typer.Option(help="A folder that folder connections may be in.")] = None,
) -> None:
    """Start the service: web server and a local worker."""
    roots = [part for folder in root or [] for part in ("--root", folder)]
    hand_on("serve", "--host", host, "--port", str(port), "--slots", str(slots), *roots)


def backup(file: Annotated[str, typer.Argument(help="A file that is not there yet.")]) -> None:
    """Write all records of the service into a file; where the service runs, with its environment."""
    hand_on("backup", file)


def restore(file: Annotated[str, typer.Argument(help="What `backup` has written.")]) -> None:
    """Put the records of a backup into an empty database; where the service runs, with its environment."""
    hand_on("restore", file)


def worker(
    slots: Annotated[int, typer.Option(help="Runs at once.")] = 2,
    site: Annotated[
        list[str] | None,
        typer.Option(help="A site whose connections it reaches; left out: those of the service's own place."),
    ] = None,
    root: Annotated[list[str] | None, typer.Option(help="A folder that folder connections may be in.")] = None,
    service: Annotated[
        str | None,
        typer.Option(help="The address of the service, for a worker that reaches nothing of it but HTTPS."),
    ] = None,
    token: Annotated[
        str | None,
        typer.Option(
            envvar="ULTRAVECT_WORKER_TOKEN",
            help="Of `ultravect token add --site`; with --service.",
            show_default=False,
        ),
    ] = None,
) -> None:
    """Start another worker, on this or another machine."""
    roots = [part for folder in root or [] for part in ("--root", folder)]
    sites = [part for name in site or [] for part in ("--site", name)]
    if service:
        if not token or not site:
            raise typer.BadParameter(
                "a worker with --service takes --token and at least one --site; an admin makes the token: "
                "ultravect token add LABEL --site SITE"
            )
        # by the environment: a command's words are for all eyes
        os.environ["ULTRAVECT_WORKER_TOKEN"] = token
        sites += ["--service", service]
    hand_on("worker", "--slots", str(slots), *sites, *roots)
