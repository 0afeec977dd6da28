"""`ultravect connection …`"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import ConnectionName, Json
from ultravect.cli.output import print_json, print_problem, print_table, screen
from ultravect.client import Client

app = typer.Typer(help="Named places to copy from and to.", no_args_is_help=True)

Setting = Annotated[list[str] | None, typer.Argument(metavar="KEY=VALUE…", help="Settings of the connection.")]
Ask = Annotated[
    list[str] | None,
    typer.Option("--ask", metavar="KEY", help="Ask for this secret, or read it from standard input."),
]


_REFERENCES = ("from_env", "from_file")


def _setting(schema: dict[str, Any], value: str) -> Any:
    """A setting as its schema wants it: a number, yes or no, a list; @FILE is the text of a file."""
    kind = schema.get("type")
    if kind == "integer" and value.isdigit():
        return int(value)
    if kind == "boolean" and value in ("true", "false", "yes", "no"):
        return value in ("true", "yes")
    if kind == "array":
        return [part.strip() for part in value.split(",") if part.strip()]
    mark, _, place = value.partition(":")
    if schema.get("secret") and mark in _REFERENCES:
        return {mark: place}
    if value.startswith("@"):
        try:
            return Path(value[1:]).read_text("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise typer.BadParameter(f"{value[1:]} cannot be read: {error}") from None
    return value


def _settings(client: Client, kind: str, given: list[str], asked: list[str]) -> dict[str, Any]:
    schema = client.kinds().get(kind, {}).get("properties", {})
    settings: dict[str, Any] = {}
    for pair in given:
        key, mark, value = pair.partition("=")
        if not mark:
            raise typer.BadParameter(f"{pair!r} is not KEY=VALUE")
        settings[key] = _setting(schema.get(key, {}), value)
    for key in asked:
        settings[key] = (
            typer.prompt(key, hide_input=True) if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
        )
    return settings


def _as_given(value: Any) -> str:
    """A setting as ``_setting`` takes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return ",".join(map(str, value)) if isinstance(value, list) else str(value)


Site = Annotated[str | None, typer.Option("--site", help="The network location whose workers reach it.")]


AtMost = Annotated[
    int | None,
    typer.Option("--at-most", min=0, help="How many legs may use it at once, in all runs; 0: as many as can."),
]


@app.command("add")
def add(
    name: str,
    kind: Annotated[
        str,
        typer.Argument(
            help="postgresql, mariadb, sqlite, duckdb, sqlserver, lake, warehouse, folder, objectstore, sftp or http"
        ),
    ],
    settings: Setting = None,
    ask: Ask = None,
    site: Site = None,
    at_most: AtMost = None,
    as_json: Json = False,
) -> None:
    """Add a connection: `connection add warehouse postgresql host=… database=… user=… --ask password`.

    A secret can also be a reference: password=from_env:SECRET_WAREHOUSE or password=from_file:warehouse-password.
    KEY=@FILE takes the text of a file, such as private_key=@id_ed25519.
    """
    with connect() as client:
        given = _settings(client, kind, settings or [], ask or [])
        added = client.add_connection(name, kind, given, site=site or "", at_most=at_most or None)
    if as_json:
        print_json(added)
    else:
        screen.print(f"added connection {name}; try it: ultravect connection test {name}")


@app.command("change")
def change(
    name: str,
    settings: Setting = None,
    ask: Ask = None,
    site: Site = None,
    at_most: AtMost = None,
    as_json: Json = False,
) -> None:
    """Change settings of a connection; those not given stay as they are."""
    with connect() as client:
        kind = client.connection(name).kind
        given = _settings(client, kind, settings or [], ask or [])
        changed = client.change_connection(name, given, site=site, at_most=at_most)
    if as_json:
        print_json(changed)
    else:
        screen.print(f"changed connection {name}")


def _shown(settings: dict[str, Any], secrets: list[str]) -> str:
    return escape(
        "  ".join(
            [*(f"{key}={_as_given(value)}" for key, value in settings.items()), *(f"{key}=(set)" for key in secrets)]
        )
    )


@app.command("list")
def list_connections(as_json: Json = False) -> None:
    """List connections."""
    with connect() as client:
        found = client.connections()
    if as_json:
        print_json(found)
    elif not found:
        screen.print("no connections yet; add one: ultravect connection add NAME KIND KEY=VALUE…")
    else:
        print_table(
            ["name", "kind", "site", "at most", "settings"],
            [(c.name, c.kind, c.site or "", str(c.at_most or ""), _shown(c.settings, c.secrets_set)) for c in found],
        )


@app.command("show")
def show(name: ConnectionName, as_json: Json = False) -> None:
    """Show a connection, without its secrets."""
    with connect() as client:
        found = client.connection(name)
    if as_json:
        print_json(found)
    else:
        screen.print(f"{found.name}, {found.kind}: {_shown(found.settings, found.secrets_set)}")


_STEPS = {"passed": "[green]✓[/]", "failed": "[red]✗[/]", "not reached": "[dim]·[/]"}


@app.command("test")
def test(
    name: str,
    write: Annotated[
        bool | None,
        typer.Option("--write/--no-write", help="Also as a copy into it would; left out: when a job does."),
    ] = None,
    as_json: Json = False,
) -> None:
    """Go as far as a copy would, step by step, and say how far that is."""
    with connect() as client:
        probe = client.test_connection(name, write=write)
    if as_json:
        print_json(probe)
    else:
        for step in probe.steps:
            shown = "" if step.state == "failed" else step.detail or step.state
            screen.print(f"{_STEPS[step.state]} {step.step:8} {escape(shown)}".rstrip(), soft_wrap=True)
            if step.state == "failed" and probe.error:
                print_problem(probe.error["detail"], probe.error.get("hint", ""))
        if probe.passed:
            screen.print(f"connection {name} works")
    if not probe.passed:
        raise typer.Exit(1)


@app.command("file")
def file(
    name: str,
    out: Annotated[Path | None, typer.Option("--out", "-o", help="Write it there; left out: show it.")] = None,
) -> None:
    """Give a connection as a file, without its sealed secrets; `ultravect save` takes it in again."""
    with connect() as client:
        text = client.connection_file(name)
    if out is None:
        screen.print(escape(text.rstrip()), soft_wrap=True)
    else:
        out.write_text(text, "utf-8")
        screen.print(f"wrote {out}")


@app.command("remove")
def remove(name: ConnectionName, as_json: Json = False) -> None:
    """Remove a connection that no job uses."""
    with connect() as client:
        client.remove_connection(name)
    if as_json:
        print_json({"removed": name})
    else:
        screen.print(f"removed connection {name}")
