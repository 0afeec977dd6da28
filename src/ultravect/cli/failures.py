"""What a command says when it cannot be carried out, and its exit code."""

from __future__ import annotations

from ultravect.cli.login import NotSignedIn
from ultravect.cli.output import print_problem
from ultravect.client import ApiError, ServiceUnreachable


def exit_code(error: Exception) -> int | None:
    """Prints what went wrong; None for what is no such failure."""
    match error:
        case ApiError():
            print_problem(error.detail, error.hint)
            for entry in error.errors[1:]:
                print_problem(
                    f"{entry.get('pointer', '').lstrip('/')}: {entry.get('message', '')}".removeprefix(": ")
                )
            return 3 if error.status == 401 else 1
        case NotSignedIn():
            print_problem(str(error), "ultravect login URL, or set ULTRAVECT_URL and ULTRAVECT_TOKEN")
            return 3
        case ServiceUnreachable():
            print_problem(str(error), "is the service running, and is the address right? ultravect login URL")
            return 3
    return None
