"""Options that every command has."""

from __future__ import annotations

from typing import Annotated

import typer

Json = Annotated[bool, typer.Option("--json", help="Print JSON, for programs.")]
