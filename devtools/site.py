"""The docs as a site: the page of commands, written from the code, and all pages by the usual tool, with a search that works offline."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import typer

ROOT = Path(__file__).resolve().parent.parent
COMMANDS = ROOT / "docs" / "commands.md"
SITE = ROOT / "src" / "ultravect" / "service" / "static" / "site" / "docs"
_HEAD = """# Commands

Written by `./dev docs` from the code. `ultravect` alone says where you stand; `ultravect COMMAND --help` says what stands here.

With `--json`, a command prints what the API answers, for programs: its schema is in `/api/openapi.json` of the service, and readable at
`/api/docs`. Exit codes: 0 done; 1 it ran, and the answer is bad; 2 wrong usage; 3 no service; 4 a run failed, and its rows are in the
target; 5 it failed, and whether they are there is not known yet.

Completion of commands, jobs, connections, objects and runs, once for each shell:

```console
$ ultravect completion bash > ~/.local/share/bash-completion/completions/ultravect
$ ultravect completion zsh > "${fpath[1]}/_ultravect"
$ ultravect completion fish > ~/.config/fish/completions/ultravect.fish
```
"""


def commands_page() -> str:
    from ultravect.cli.main import made_app

    app: Any = typer.main.get_command(made_app())
    text = [_HEAD]
    for name, command in app.commands.items():
        if hasattr(command, "commands"):
            text.append(f"## {name}\n\n{command.help}\n")
            text += [_shown(f"{name} {sub}", found, 3) for sub, found in command.commands.items()]
        else:
            text.append(_shown(name, command, 2))
    return "\n".join(text)


def _shown(name: str, command: Any, depth: int) -> str:
    arguments, options = [], []
    for parameter in command.params:
        about = " ".join((getattr(parameter, "help", "") or "").split())
        if parameter.param_type_name == "argument":
            shown = parameter.metavar or parameter.name.upper()
            arguments.append((shown if parameter.required else f"[{shown.strip('[]')}]", about))
        elif "--help" not in parameter.opts:
            value = "" if parameter.is_flag else f" {parameter.metavar or parameter.name.upper()}"
            options.append((f"`{', '.join(parameter.opts)}{value}`".replace("|", "\\|"), about.replace("|", "\\|")))
    usage = " ".join(["ultravect", name, *(shown for shown, _ in arguments)])
    lines = [f"{'#' * depth} {name}", "", " ".join((command.help or "").split()), "", f"    {usage}", ""]
    lines += [f"- `{shown}`: {about}" for shown, about in arguments if about]
    if options:
        lines += ["", "| Option | |", "|---|---|", *(f"| {shown} | {about} |" for shown, about in options)]
    return "\n".join([*lines, ""])


def write() -> None:
    """Writes the page of commands anew, and builds the site."""
    COMMANDS.write_text(commands_page())
    build()


def build() -> None:
    subprocess.run(
        [sys.executable, "-m", "mkdocs", "build", "--quiet", "--site-dir", str(SITE)], cwd=ROOT, check=True
    )
    from ultravect.core.model.jobs.job import job_schema

    (SITE / "job.schema.json").write_text(json.dumps(job_schema(), indent=1))
