"""A layout as an option of a command."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer


def own_layout(text: str) -> str | dict[str, Any]:
    """The name of a saved layout; or a layout, as text or in a file."""
    import yaml  # few commands are given a layout

    if text.endswith((".yaml", ".yml", ".json")) and Path(text).is_file():
        text = Path(text).read_text("utf-8")
    try:
        found = yaml.safe_load(text)
    except yaml.YAMLError as error:
        raise typer.BadParameter(f"--layout: {error}") from None
    if isinstance(found, dict):
        return found.get("reads", found) if "layout" in found else found
    return str(found)
