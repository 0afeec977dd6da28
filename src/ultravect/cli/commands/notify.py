"""`ultravect notify …`: who is sent a message of what."""

from __future__ import annotations

import sys
from typing import Annotated

import typer
from rich.markup import escape

from ultravect.cli.login import connect
from ultravect.cli.options import Json
from ultravect.cli.output import print_json, print_table, screen

app = typer.Typer(help="Messages: who is sent what, by mail or to a webhook.", no_args_is_help=True)

Rule = Annotated[str, typer.Argument(metavar="RULE")]


@app.command("list")
def list_rules(as_json: Json = False) -> None:
    """List the rules."""
    with connect() as client:
        found = client.notify_rules()
    if as_json:
        print_json(found)
    elif not found:
        screen.print("no one is sent messages yet: ultravect notify add NAME --on failed --mail someone@example.org")
    else:
        print_table(
            ["rule", "on", "of", "sent to", "quiet", "again"],
            [
                (
                    escape(item.name),
                    ", ".join(item.occasions),
                    escape(
                        ", ".join([*(item.jobs or ()), *(f"label {label}" for label in item.labels or ())])
                        or "all jobs"
                    ),
                    escape(", ".join([*(item.mail or ()), *([item.webhook] if item.webhook else [])])),
                    f"{item.quiet_from} to {item.quiet_to} {item.quiet_zone}" if item.quiet_from else "",
                    f"after {item.remind_hours} h" if item.remind_hours else "",
                )
                for item in found
            ],
            whole=True,
        )


@app.command("add")
def add(
    name: Rule,
    on: Annotated[
        list[str],
        typer.Option(
            "--on",
            metavar="failed|recovered|rejects|late|guard|changed|missing|unmatched",
            help="Of what; may be repeated.",
        ),
    ],
    mail: Annotated[list[str] | None, typer.Option("--mail", help="An address; may be repeated.")] = None,
    webhook: Annotated[str, typer.Option("--webhook", help="An address that is sent JSON by POST.")] = "",
    key: Annotated[
        bool, typer.Option("--key", help="Sign messages to the webhook; the key is read from standard input.")
    ] = False,
    job: Annotated[list[str] | None, typer.Option("--job", help="Of this job; may be repeated.")] = None,
    label: Annotated[
        list[str] | None, typer.Option("--label", help="Of jobs with this label; may be repeated.")
    ] = None,
    quiet: Annotated[
        str, typer.Option("--quiet", metavar="FROM..TO", help="Hours in which nothing is sent, such as 22:00..06:00.")
    ] = "",
    remind: Annotated[
        int, typer.Option("--remind", metavar="HOURS", help="Say failed and late again after so many hours.")
    ] = 0,
    zone: Annotated[str, typer.Option("--timezone", help="Whose clocks the quiet hours are of.")] = "UTC",
) -> None:
    """Add a rule, or replace it."""
    first, mark, last = quiet.partition("..")
    if quiet and not (first and mark and last):
        raise typer.BadParameter(f"--quiet is written FROM..TO, such as 22:00..06:00, not {quiet!r}")
    secret = sys.stdin.readline().strip() if key else None
    with connect() as client:
        client.save_notify_rule(
            name, on, mail=mail or (), webhook=webhook, key=secret, jobs=job or (), labels=label or (),
            quiet=(first, last, zone) if quiet else None, remind_hours=remind,
        )  # fmt: skip
    screen.print(f"saved the rule {name}; try it: ultravect notify test {name}", soft_wrap=True)


@app.command("remove")
def remove(name: Rule) -> None:
    """Remove a rule, with its messages."""
    with connect() as client:
        client.remove_notify_rule(name)
    screen.print(f"removed the rule {name}")


@app.command("test")
def test(name: Rule) -> None:
    """Send a message that says that it is a test, at once."""
    with connect() as client:
        client.test_notify_rule(name)
    screen.print(f"sent: the rule {name} reaches its addresses")


@app.command("messages")
def messages(as_json: Json = False) -> None:
    """List the last messages, and whether they were sent."""
    with connect() as client:
        found = client.messages()
    if as_json:
        print_json(found)
        return
    print_table(
        ["id", "rule", "subject", "items", "sent"],
        [
            (
                str(item.id),
                escape(item.rule),
                escape(item.subject),
                str(len(item.items)),
                f"{item.sent_at:%Y-%m-%d %H:%M:%S}" if item.sent_at else f"[yellow]not yet[/] {escape(item.error)}",
            )
            for item in found.items
        ],
        right=["items"],
        whole=True,
    )
