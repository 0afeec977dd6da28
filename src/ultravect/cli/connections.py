"""`ultravect connection …`, `look` and `ask`."""

from __future__ import annotations

import sys
from typing import Annotated, Any

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import cell, print_json, print_problem, print_rows, print_table, screen, size
from ultravect.client import Client

app = typer.Typer(help="Named places to copy from and to.", no_args_is_help=True)

Setting = Annotated[list[str] | None, typer.Argument(metavar="KEY=VALUE…", help="Settings of the connection.")]
Ask = Annotated[
    list[str] | None,
    typer.Option("--ask", metavar="KEY", help="Ask for this secret, or read it from standard input."),
]


def _settings(client: Client, kind: str, given: list[str], asked: list[str]) -> dict[str, Any]:
    schema = client.kinds().get(kind, {}).get("properties", {})
    settings: dict[str, Any] = {}
    for pair in given:
        key, mark, value = pair.partition("=")
        if not mark:
            raise typer.BadParameter(f"{pair!r} is not KEY=VALUE")
        wants_number = schema.get(key, {}).get("type") == "integer"
        settings[key] = int(value) if wants_number and value.isdigit() else value
    for key in asked:
        settings[key] = (
            typer.prompt(key, hide_input=True) if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
        )
    return settings


@app.command("add")
def add(
    name: str,
    kind: Annotated[str, typer.Argument(help="folder or postgresql")],
    settings: Setting = None,
    ask: Ask = None,
    as_json: Json = False,
) -> None:
    """Add a connection: `connection add warehouse postgresql host=… database=… user=… --ask password`."""
    with connect() as client:
        added = client.add_connection(name, kind, _settings(client, kind, settings or [], ask or []))
    if as_json:
        print_json(added)
    else:
        screen.print(f"added connection {name}; try it: ultravect connection test {name}")


@app.command("change")
def change(name: str, settings: Setting = None, ask: Ask = None, as_json: Json = False) -> None:
    """Change settings of a connection; those not given stay as they are."""
    with connect() as client:
        kind = client.connection(name).kind
        changed = client.change_connection(name, _settings(client, kind, settings or [], ask or []))
    if as_json:
        print_json(changed)
    else:
        screen.print(f"changed connection {name}")


def _told(settings: dict[str, Any], secrets: list[str]) -> str:
    return escape(
        "  ".join([*(f"{key}={value}" for key, value in settings.items()), *(f"{key}=(set)" for key in secrets)])
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
        print_table(["name", "kind", "settings"], [(c.name, c.kind, _told(c.settings, c.secrets_set)) for c in found])


@app.command("show")
def show(name: str, as_json: Json = False) -> None:
    """Show a connection, without its secrets."""
    with connect() as client:
        found = client.connection(name)
    if as_json:
        print_json(found)
    else:
        screen.print(f"{found.name}, {found.kind}: {_told(found.settings, found.secrets_set)}")


@app.command("test")
def test(name: str, as_json: Json = False) -> None:
    """Go as far as a copy would, and say how far that is."""
    with connect() as client:
        probe = client.test_connection(name)
    if as_json:
        print_json(probe)
    else:
        for step in probe.steps:
            screen.print(f"[green]✓[/] {escape(step)}", soft_wrap=True)
        if probe.error:
            print_problem(probe.error["detail"], probe.error.get("hint", ""))
        else:
            screen.print(f"connection {name} works")
    if not probe.passed:
        raise typer.Exit(1)


@app.command("remove")
def remove(name: str, as_json: Json = False) -> None:
    """Remove a connection that no job uses."""
    with connect() as client:
        client.remove_connection(name)
    if as_json:
        print_json({"removed": name})
    else:
        screen.print(f"removed connection {name}")


def look(
    connection: str,
    name: Annotated[
        str | None, typer.Argument(metavar="[OBJECT]", help="A file or table; left out: list them.")
    ] = None,
    rows: Annotated[int, typer.Option(help="How many rows to show.")] = 10,
    whole: Annotated[
        bool, typer.Option("--whole", help="Types from the whole file, not from its first part.")
    ] = False,
    search: Annotated[str, typer.Option(help="Only names that contain this.")] = "",
    as_json: Json = False,
) -> None:
    """Look at what a connection holds, or at one object: first rows, types and the evidence for them."""
    with connect() as client:
        if name is None:
            found = client.objects(connection, search=search)
        else:
            found = client.preview(connection, name, rows=rows, whole=whole)
    if as_json:
        print_json(found)
    elif name is None:
        _print_objects(found)
    else:
        _print_preview(found)


def _print_objects(found: dict[str, Any]) -> None:
    rows = []
    for item in found["items"]:
        if item["kind"] == "file":
            rows.append((cell(item["name"]), "file", size(item["size"]), item["modified"][:19].replace("T", " ")))
        else:
            estimate = "" if item["rows"] is None else f"about {item['rows']:,} rows"
            rows.append((cell(item["name"]), item["kind"], estimate, ""))
    if not rows:
        screen.print("nothing here")
        return
    print_table(["name", "kind", "size", "modified"], rows, right=["size"])
    if found["more"]:
        screen.print("… and more: narrow it with --search")


def _print_preview(found: dict[str, Any]) -> None:
    screen.print(f"[bold]{escape(found['object'])}[/], {found['kind']}", end="")
    if found["kind"] == "file":
        layout = found["layout"]
        header = "header" if layout["header"] else "no header"
        screen.print(
            f", {size(found['size'])}: {layout['format']}, delimiter {layout['delimiter']!r}, {header}, {layout['encoding']}"
        )
        columns = [(cell(c["name"]), c["type"], f"{c['nulls']:,}", escape(c["evidence"])) for c in found["columns"]]
        print_table(["column", "type", "empty", "evidence"], columns, right=["empty"])
        what = "all" if found["complete"] else "the first"
        screen.print(f"[dim]types from {what} {found['rows_scanned']:,} rows[/]")
        if found["ragged_count"]:
            first = found["ragged_rows"][0]
            screen.print(
                f"[yellow]warning[/]: rows with another number of values than the {len(found['columns'])} columns: "
                f"{found['ragged_count']:,}, first row {first['row']:,} with {first['values']}",
                soft_wrap=True,
            )
    else:
        screen.print()
        columns = [
            (cell(c["name"]), c["type"] or "—", c["native"], "NULL" if c["nullable"] else "")
            for c in found["columns"]
        ]
        print_table(["column", "type", "native", "takes"], columns)
    for finding in found["findings"]:
        if finding["severity"] != "note" or finding["code"] == "column-renamed":
            screen.print(f"[yellow]{finding['severity']}[/]: {escape(finding['message'])}", soft_wrap=True)
    screen.print()
    print_rows([c["name"] for c in found["columns"]], found["rows"])


def ask(
    connection: str,
    sql: Annotated[str, typer.Argument(metavar="SQL", help="One statement that reads.")],
    limit: Annotated[int, typer.Option(help="At most this many rows.")] = 200,
    seconds: Annotated[float, typer.Option(help="Give up after this long.")] = 20,
    as_json: Json = False,
) -> None:
    """Ask a database, in a transaction that cannot write."""
    with connect() as client:
        answer = client.ask(connection, sql, limit=limit, seconds=seconds)
    if as_json:
        print_json(answer)
        return
    print_rows(answer.columns, answer.rows)
    if answer.more:
        screen.print(f"… more than {limit:,} rows: raise --limit")
