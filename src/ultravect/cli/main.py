"""The `ultravect` command. Exit codes: 0 done; 1 it ran and the answer is bad; 2 wrong usage; 3 no service."""

from __future__ import annotations

import sys

import typer

from ultravect import __version__
from ultravect.cli import connections, jobs, layouts, look, runs, service
from ultravect.cli.login import NotSignedIn
from ultravect.cli.output import print_problem, screen
from ultravect.client import ApiError, ServiceUnreachable

app = typer.Typer(
    help="Declared copy jobs between databases, files and storage.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)
app.add_typer(connections.app, name="connection")
app.add_typer(layouts.app, name="layout")
app.add_typer(service.user_app, name="user")
for command in (
    service.login, look.look, look.ask, look.upload, jobs.draft, jobs.save, jobs.jobs, jobs.job, jobs.check,
    jobs.rehearse, jobs.types, runs.run, runs.rerun, runs.runs, runs.show, runs.stop, runs.rejects, runs.retry_rejects,
    runs.changes, runs.undo, service.serve, service.worker,
):  # fmt: skip
    app.command(command.__name__.replace("_", "-"))(command)


@app.command("version")
def version() -> None:
    """Show the version."""
    screen.print(f"ultravect {__version__}")


def main() -> None:
    """Runs a command and turns failures into exit codes."""
    try:
        app()
    except ApiError as error:
        print_problem(error.detail, error.hint)
        for entry in error.errors[1:]:
            print_problem(f"{entry.get('pointer', '').lstrip('/')}: {entry.get('message', '')}".removeprefix(": "))
        sys.exit(3 if error.status == 401 else 1)
    except NotSignedIn as error:
        print_problem(str(error), "ultravect login URL, or set ULTRAVECT_URL and ULTRAVECT_TOKEN")
        sys.exit(3)
    except ServiceUnreachable as error:
        print_problem(str(error), "is the service running, and is the address right? ultravect login URL")
        sys.exit(3)


if __name__ == "__main__":
    main()
