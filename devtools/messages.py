"""Makes a page of every code in docs/messages.md, with the example that docs/message-examples.yaml has for it."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import yaml

_ROW = re.compile(r"^\| (`[^|]+`) \| (.+?) \|(?: (.+?) \|)?$")


@dataclass(frozen=True)
class Message:
    """A row of the table; ``codes`` are reported together there."""

    codes: tuple[str, ...]
    section: str
    meaning: str
    helps: str


def messages(text: str) -> Iterator[Message]:
    """The rows of docs/messages.md."""
    section = ""
    for line in text.splitlines():
        if line.startswith("## "):
            section = line.removeprefix("## ")
        elif (row := _ROW.match(line)) and row[1] != "`code`":
            codes = tuple(re.findall(r"`([a-z-]+)`", row[1]))
            yield Message(codes, section, row[2], row[3] or "")


def pages(docs: Path) -> dict[str, str]:
    """The text of each page by its name."""
    examples = yaml.safe_load((docs / "message-examples.yaml").read_text())
    made = {}
    for message in messages((docs / "messages.md").read_text()):
        for code in message.codes:
            lines = [f"# {code}", "", f"*{message.section}*", "", _sentence(message.meaning)]
            if message.helps:
                lines += ["", f"**What helps:** {message.helps}"]
            if example := examples.get(code):
                kind = "sql" if example["fix"].startswith(("GRANT", "CREATE")) else "yaml"
                lines += ["", _sentence(example["why"]), "", "## Example", "", "```", example["said"], "```", ""]
                lines += ["fixed by", "", f"```{kind}", example["fix"], "```"]
            others = [other for other in message.codes if other != code]
            if others:
                lines += ["", "RunFact together with " + ", ".join(f"[{item}]({item}.md)" for item in others) + "."]
            text = "\n".join([*lines, "", "[All messages](../messages.md)", ""])
            made[f"{code}.md"] = _up(text)
    return made


def _up(text: str) -> str:
    """Links of the table lead from the folder above."""
    return re.sub(r"\]\((job-file|writing|operations|guide|types)\.md", r"](../\1.md", text)


def _sentence(text: str) -> str:
    return text[0].upper() + text[1:] + ("" if text.endswith((".", "?", "!")) else ".")


def write(docs: Path) -> int:
    """Writes all pages anew; how many."""
    folder = docs / "messages"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    made = pages(docs)
    for name, text in made.items():
        (folder / name).write_text(text)
    return len(made)
