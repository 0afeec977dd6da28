"""`ultravect user …`, `ultravect token …` and `ultravect audit`: who may do what, and who did what."""

from __future__ import annotations

import os
import sys
from typing import Annotated

import typer

from ultravect.cli.commands.service import hand_on
from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import print_json, print_table, screen
from ultravect.client import Account, KnownToken

user_app = typer.Typer(help="Users of the service.", no_args_is_help=True)
token_app = typer.Typer(help="Tokens, by which programs sign in.", no_args_is_help=True)
_RoleOption = Annotated[str, typer.Option(help="viewer, operator, editor or admin")]


def _password(name: str) -> str:
    """From ULTRAVECT_PASSWORD, asked for, or the first line of standard input."""
    if given := os.environ.get("ULTRAVECT_PASSWORD"):
        return given
    if sys.stdin.isatty():
        return str(typer.prompt(f"password for {name}", hide_input=True, confirmation_prompt=True))
    return sys.stdin.readline().rstrip("\n")


@user_app.command("add")
def add_user(name: str, role: _RoleOption = "editor", as_json: Json = False) -> None:
    """Add a user; the password is asked for, or taken from ULTRAVECT_PASSWORD.

    With the service's own settings in the environment (ULTRAVECT_DATABASE_URL), it needs no sign-in: the first user is made so.
    """
    if os.environ.get("ULTRAVECT_DATABASE_URL"):
        hand_on("user", "add", name, "--role", role)
    with connect() as client:
        _changed(client.add_user(name, _password(name), role), "added", as_json)


def _changed(account: Account, what: str, as_json: bool) -> None:
    if as_json:
        print_json(account)
    else:
        screen.print(f"{what} user {account.name}: {account.role}{'' if account.active else ', disabled'}")


@user_app.command("list")
def list_users(as_json: Json = False) -> None:
    """List the users."""
    with connect() as client:
        users = client.users()
    if as_json:
        print_json(users)
        return
    rows = [
        (
            user.name,
            user.role,
            "" if user.active else "disabled",
            f"{user.last_login.astimezone():%Y-%m-%d %H:%M}" if user.last_login else "",
        )
        for user in users
    ]
    print_table(["user", "role", "", "last sign-in"], rows)


@user_app.command("role")
def change_role(name: str, role: str, as_json: Json = False) -> None:
    """Give a user another role: viewer, operator, editor or admin."""
    with connect() as client:
        _changed(client.change_user(name, role=role), "changed", as_json)


@user_app.command("password")
def change_password(name: str, as_json: Json = False) -> None:
    """Set a user's password anew; tokens of the user end."""
    with connect() as client:
        _changed(client.change_user(name, password=_password(name)), "changed the password of", as_json)


@user_app.command("disable")
def disable(name: str, as_json: Json = False) -> None:
    """Keep a user from signing in; tokens of the user end."""
    with connect() as client:
        _changed(client.change_user(name, active=False), "disabled", as_json)


@user_app.command("enable")
def enable(name: str, as_json: Json = False) -> None:
    """Let a disabled user sign in again."""
    with connect() as client:
        _changed(client.change_user(name, active=True), "enabled", as_json)


@token_app.command("list")
def list_tokens(
    of_all: Annotated[bool, typer.Option("--all", help="Those of all users; for admins.")] = False,
    as_json: Json = False,
) -> None:
    """List your tokens; their texts are shown once, when they are made."""
    with connect() as client:
        tokens = client.tokens(of_all=of_all)
    if as_json:
        print_json(tokens)
        return
    rows = [
        (
            str(token.id),
            token.label,
            token.owner,
            _may_do(token),
            f"{token.created_at.astimezone():%Y-%m-%d %H:%M}",
            f"{token.used_at.astimezone():%Y-%m-%d %H:%M}" if token.used_at else "never",
            f"{token.expires_at.astimezone():%Y-%m-%d}" if token.expires_at else "never",
        )
        for token in tokens
    ]
    print_table(["id", "label", "owner", "may", "made", "used", "expires"], rows, right=["id"])


def _may_do(token: KnownToken) -> str:
    if token.sites:
        return f"join workers of {', '.join(token.sites)}"
    return f"run {', '.join(token.jobs)}" if token.jobs else token.role or "as its owner"


@token_app.command("add")
def add_token(
    label: str,
    role: Annotated[str, typer.Option(help="The most that it may do; left out: all that you may.")] = "",
    days: Annotated[int | None, typer.Option(help="Days after which it expires; left out: never.")] = None,
    site: Annotated[
        list[str] | None,
        typer.Option(help="For `ultravect worker --service` at this site, and for nothing else; may be repeated."),
    ] = None,
    job: Annotated[
        list[str] | None,
        typer.Option(help="It may only start runs of this job, and see them; may be repeated."),
    ] = None,
    as_json: Json = False,
) -> None:
    """Make a token for a program. Its text is printed once, and kept nowhere."""
    with connect() as client:
        made = client.make_token(label, role=role, days=days, sites=site or [], jobs=job or [])
    if as_json:
        print_json(made)
    else:
        print(made.token)


@token_app.command("withdraw")
def withdraw(number: Annotated[int, typer.Argument(metavar="ID")], as_json: Json = False) -> None:
    """End a token: yours, or as an admin anyone's."""
    with connect() as client:
        client.withdraw_token(number)
    if as_json:
        print_json({"withdrawn": number})
    else:
        screen.print(f"token {number} is withdrawn")


def audit(
    kind: Annotated[str, typer.Option(help="connection, job, layout, token or user")] = "",
    name: Annotated[str, typer.Option(help="Of this record only.")] = "",
    user: Annotated[str, typer.Option(help="Of this user only.")] = "",
    as_json: Json = False,
) -> None:
    """Show who did what, and from where; for admins."""
    with connect() as client:
        found = client.audit(kind=kind, name=name, user=user)
    if as_json:
        print_json(found)
        return
    rows = [
        (
            f"{item.at.astimezone():%Y-%m-%d %H:%M:%S}",
            item.user,
            item.address,
            item.action,
            f"{item.kind} {item.name}",
            ", ".join(f"{key} {value}" for key, value in item.detail.items()),
        )
        for item in found.items
    ]
    print_table(["at", "user", "from", "did", "to", "detail"], rows)
