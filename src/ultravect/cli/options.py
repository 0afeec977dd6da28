"""Options and arguments that commands share."""

from __future__ import annotations

from typing import Annotated

import typer

from ultravect.cli import completion

Json = Annotated[bool, typer.Option("--json", help="Print JSON, for programs: what the API answers.")]
JobName = Annotated[str, typer.Argument(metavar="JOB", autocompletion=completion.jobs)]
JobOrFile = Annotated[
    str, typer.Argument(metavar="JOB|FILE", help="A saved job, or a job file.", autocompletion=completion.jobs)
]
ConnectionName = Annotated[str, typer.Argument(metavar="CONNECTION", autocompletion=completion.connections)]
RunNumber = Annotated[int, typer.Argument(metavar="RUN", autocompletion=completion.runs)]
