"""`ultravect layout …`: saved layouts."""

from __future__ import annotations

from typing import Annotated

import typer
import yaml
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import ConnectionName, Json
from ultravect.cli.output import print_findings, print_json, print_table, screen

app = typer.Typer(help="Saved layouts: how the files of one kind are cut.", no_args_is_help=True)


@app.command("list")
def list_layouts(search: str = "", as_json: Json = False) -> None:
    """List saved layouts."""
    with connect() as client:
        found = client.layouts(search=search)
    if as_json:
        print_json(found)
    elif not found:
        screen.print("no layouts yet; make one: ultravect layout propose NAME CONNECTION OBJECT")
    else:
        print_table(
            ["layout", "version", "format", "about"],
            [(item.name, str(item.version), item.format, escape(item.about)) for item in found],
            right=["version"],
        )


@app.command("show")
def show(name: str, as_json: Json = False) -> None:
    """Show a layout's file."""
    with connect() as client:
        found = client.layout(name)
    if as_json:
        print_json(found)
    else:
        screen.print(f"[dim]# layout {found.name}, version {found.version}[/]")
        screen.print(escape(found.file.rstrip()), soft_wrap=True)


@app.command("propose")
def propose(
    name: str,
    connection: ConnectionName,
    file: Annotated[str, typer.Argument(metavar="OBJECT", help="A file of the kind that the layout is for.")],
    save: Annotated[bool, typer.Option("--save", help="Save it at once.")] = False,
    as_json: Json = False,
) -> None:
    """Write a layout file from what a file looks like, with the reasons."""
    with connect() as client:
        seen = client.preview(connection, file, rows=0)
        structure = {
            "ultravect": 1,
            "layout": name,
            "reads": seen["layout"],
            "expects": [{"name": column["name"], "type": column["type"]} for column in seen["columns"]],
        }
        reasons = [f"# {finding['message']}" for finding in seen["findings"]]
        text = "\n".join([f"# proposed from {file}", *reasons, ""]) + yaml.safe_dump(
            structure, sort_keys=False, allow_unicode=True, width=110
        )
        saved = client.save_layout(name, text) if save else None
    if as_json:
        print_json(saved or structure)
    else:
        screen.print(escape(text.rstrip()), soft_wrap=True)
        if saved:
            screen.print(f"saved layout {name}, version {saved.version}")


@app.command("fit")
def fit(
    name: Annotated[str, typer.Argument(help="A saved layout, such as weigh-slips or weigh-slips@2.")],
    connection: ConnectionName,
    file: Annotated[str, typer.Argument(metavar="OBJECT")],
    as_json: Json = False,
) -> None:
    """Hold a file against a layout: does it still have the columns that the layout expects?"""
    with connect() as client:
        found = client.fit(name, connection, file)
    if as_json:
        print_json(found)
    elif found.fits:
        screen.print(f"{file} fits layout {name}")
    else:
        print_findings(found.findings)
    if not found.fits:
        raise typer.Exit(1)


@app.command("remove")
def remove(name: str, as_json: Json = False) -> None:
    """Remove a layout that no job names."""
    with connect() as client:
        client.remove_layout(name)
    if as_json:
        print_json({"removed": name})
    else:
        screen.print(f"removed layout {name}")
