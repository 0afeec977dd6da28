"""Writes a version of a feed's provider from a file that fits none yet."""

from __future__ import annotations

import posixpath
import re

import yaml

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.sources import open_source
from ultravect.core.engine.plan.target.names import folded, quoted
from ultravect.core.expressions.parse import parse_item
from ultravect.core.expressions.tree import Name, Star
from ultravect.core.model.feed import FeedFile
from ultravect.core.model.problems import did_you_mean


def draft_version(feed: FeedFile, source: ConnectionSpec, path: str, provider: str) -> str:
    """The lines of a new version, or of a new provider, to be put into the feed's file; UltravectError where the file cannot
    be read. A column is matched by its name, or by one that other versions have called so."""
    reader = open_source(source, path, None)
    known = _synonyms(feed)
    by_name = {folded(name): name for name in reader.names}
    items, used, missing = [], set(), []
    for column in feed.columns:
        names = [column.name, *known.get(column.name, [])]
        found = next((by_name[folded(name)] for name in names if folded(name) in by_name), None)
        if found is None:
            near = did_you_mean(column.name, reader.names)
            missing.append(
                f"# - … as {column.name}".ljust(40)
                + f" # {column.type}; no column is called so{near and ', ' + near}"
            )
            continue
        used.add(found)
        items.append(quoted(found) if found == column.name else f"{quoted(found)} as {quoted(column.name)}")
    left = [name for name in reader.names if name not in used]
    layout = reader.layout.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
    indent = "      " if provider in feed.providers else "  "
    lines = []
    if provider in feed.providers:
        lines.append(f"# a further version of {provider}, at the end of its versions:")
    else:
        lines += [
            "# a further provider:",
            f"  {provider or 'PROVIDER'}:",
            f"    files: {_scalar(_pattern(path))}",
            "    versions:",
        ]
        indent = "      "
    form = yaml.safe_dump(
        {"format": reader.layout.format, **layout},
        default_flow_style=True,
        sort_keys=False,
        width=10_000,
        allow_unicode=True,
    )
    lines.append(f"{indent}- layout: {form.strip()}")
    if provider in feed.providers:
        lines.append(f"{indent}  files: {_scalar(_pattern(path))}")
    lines.append(f"{indent}  columns:")
    lines += [f"{indent}    - {_scalar(item)}" for item in items]
    lines += [f"{indent}    {line}" for line in missing]
    if left:
        lines.append(f"{indent}    # the file also has: {', '.join(left)}")
    return "\n".join([*lines, ""])


def _synonyms(feed: FeedFile) -> dict[str, list[str]]:
    """What other versions call each column of the feed."""
    known: dict[str, list[str]] = {}
    for provider in feed.providers.values():
        for version in provider.versions:
            for number, text in enumerate(version.columns):
                item = parse_item(text, f"columns.{number}")
                if not isinstance(item, Star) and isinstance(item.value, Name):
                    known.setdefault(item.name or item.value.name, []).append(item.value.name)
    return known


def _pattern(path: str) -> str:
    """The path with its digits as a wildcard: files of other days are called alike."""
    folder, name = posixpath.split(path)
    return posixpath.join(folder, re.sub(r"\d[\d._-]*\d|\d", "*", name))


def _scalar(text: str) -> str:
    return yaml.safe_dump(text, width=10_000, allow_unicode=True).removesuffix("...\n").strip()
