"""The `ultravect` command. Exit codes: 0 done; 1 it ran and the answer is bad; 2 wrong usage; 3 no service; 4 and 5: see
`cli.runs`.

Only what the command needs is imported: a list of all commands, with what each does, is at hand for `--help`.
"""

from __future__ import annotations

import gc
import importlib
import os
import sys
from typing import Any

import typer

from ultravect.cli.completion import VARIABLE, asked_words

COMMANDS: dict[str, tuple[str, str]] = {
    "login": ("service", "Sign in to a service, and remember it for the next commands."),
    "look": ("look", "Look at what a connection holds, or at one object: rows, types and the evidence for them."),
    "ask": ("look", "Ask a database, in a transaction that cannot write."),
    "upload": ("look", "Send files to the service, into its connection `uploads`."),
    "draft": ("jobs", "Write a job file with every column mapped, its type and its fit, ready to edit."),
    "save": (
        "files",
        "Store job, connection, feed and layout files in the service; a changed one becomes a new revision or version.",
    ),
    "export": (
        "files",
        "Write all that is declared into files of a folder: connections, layouts, feeds and jobs, without sealed secrets.",
    ),
    "jobs": ("jobs", "List jobs, with the last run of each."),
    "job": ("jobs", "Show a job's file, and its last run."),
    "edit": ("editing", "Edit a job in $VISUAL or $EDITOR, see what changes, and save it as a new revision."),
    "diff": ("editing", "Show what differs between a job file and what is saved, or between two revisions of a job."),
    "check": ("jobs", "Look at a job, its live source and its live target; nothing moves."),
    "rehearse": ("jobs", "Take the first rows of a job through read and shape; nothing is written."),
    "compare": (
        "compare",
        "Say which rows differ between a job's source and its target, or between two objects.",
    ),
    "mark": ("marks", "Show how far a job has copied what is new, as its target says; or set it."),
    "types": ("jobs", "Show how each database's types translate, and with which fit."),
    "streams": (
        "streams",
        "List streams: jobs that follow the log of their source, and the lag of their targets.",
    ),
    "today": (
        "today",
        "Show what failed and why, what is late, what runs now, what comes next, and what was rejected.",
    ),
    "run": ("runs", "Run a job, and follow it to its end."),
    "rerun": (
        "runs",
        "Run a run's job again, as it is now, with the parameters of that run; of many legs, those that did not succeed.",
    ),
    "runs": ("runs", "List runs, the newest first."),
    "show": ("runs", "Show a run: phases, tally, what was said, error."),
    "logs": ("runs", "Print what a run said, line by line."),
    "differences": (
        "results",
        "Compare a run with the one before of its job, or with another: file, plan, rows and times.",
    ),
    "stop": ("runs", "Stop a run, or one leg of it; what it has not published is rolled back."),
    "rejects": ("results", "List the rows that a run rejected, with the reasons."),
    "retry-rejects": (
        "runs",
        "Load the rows that a run rejected, read again from their files or table, by the job as it is now.",
    ),
    "changes": ("results", "Show rows that a run changed, before and after, column by column."),
    "undo": ("runs", "Take back what a run loaded, where its receipt and the job allow it."),
    "audit": ("access", "Show who did what, and from where; for admins."),
    "serve": ("service", "Start the service: web server and a local worker."),
    "backup": (
        "service",
        "Write all records of the service into a file; where the service runs, with its environment.",
    ),
    "restore": (
        "service",
        "Put the records of a backup into an empty database; where the service runs, with its environment.",
    ),
    "worker": ("service", "Start another worker, on this or another machine."),
    "completion": (
        "standing",
        "Print what a shell needs to complete commands, jobs, connections, objects and runs.",
    ),
}
"""By its name: the module of a command, and what it does."""

GROUPS: dict[str, tuple[str, str, str]] = {
    "connection": ("connections", "app", "Named places to copy from and to."),
    "feed": ("feeds", "app", "Feeds: files of one kind from many providers."),
    "schedule": ("schedules", "app", "Schedules: when jobs are run by themselves."),
    "stream": ("streams", "app", "Streams: jobs that follow the log of their source."),
    "notify": ("notify", "app", "Messages: who is sent what, by mail or to a webhook."),
    "layout": ("layouts", "app", "Saved layouts: how the files of one kind are cut."),
    "user": ("access", "user_app", "Users of the service."),
    "token": ("access", "token_app", "Tokens, by which programs sign in."),
}
"""Commands with commands of their own: module, attribute, and what they are for."""


def _module(name: str) -> Any:
    return importlib.import_module(f"ultravect.cli.commands.{name}")


def _not_loaded() -> None:
    """Stands for a command in the list of all."""


def made_app(asked: str | None = None) -> typer.Typer:
    """The commands, of which only ``asked`` is loaded; None: all of them."""
    app = typer.Typer(
        help="Declared copy jobs between databases, files and storage.",
        no_args_is_help=True,
        add_completion=False,
        pretty_exceptions_enable=False,
        rich_markup_mode=None,
    )
    for name, (module, attribute, about) in GROUPS.items():
        if asked in (None, name):
            app.add_typer(getattr(_module(module), attribute), name=name)
        else:
            app.command(name, help=about)(_not_loaded)
    for name, (module, about) in COMMANDS.items():
        loaded = asked in (None, name)
        app.command(name, help=None if loaded else about)(
            getattr(_module(module), name.replace("-", "_")) if loaded else _not_loaded
        )
    app.command("version")(version)
    return app


def version() -> None:
    """Show the version."""
    from ultravect import __version__

    print(f"ultravect {__version__}")


def main() -> None:
    """Runs a command and turns failures into exit codes."""
    asked = next((word for word in sys.argv[1:] if not word.startswith("-")), "")
    if sys.argv[1:] == ["version"]:
        version()  # it has no arguments, and reading none takes longer than all the rest
        return
    completes = VARIABLE in os.environ
    if completes:
        asked = next((word for word in asked_words() if not word.startswith("-")), "")
    try:
        if len(sys.argv) == 1 and not completes:
            standing = _module("standing").standing
            app = typer.Typer(add_completion=False, pretty_exceptions_enable=False)
            app.command()(standing)
            app()
            return
        gc.disable()  # what is imported is kept to the end: looking through it again and again is a sixth of a command's start
        commands = made_app(asked)
        gc.enable()
        if completes:
            from typer.completion import completion_init  # type: ignore[attr-defined]

            completion_init()
        typer.main.get_command(commands)(prog_name="ultravect", complete_var=VARIABLE)
    except Exception as error:
        from ultravect.cli.failures import exit_code

        code = exit_code(error)
        if code is None:
            raise
        sys.exit(code)


if __name__ == "__main__":
    main()
