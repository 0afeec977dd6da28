"""Writes a job file with every column mapped, its type, its fit and what there is to mind."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import yaml

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.engine.objects.connections import ConnectionSpec, holds_tables
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.names import fitted, folded, loosely_matched, quoted
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.pairs import pair_fit

_SCAN_BYTES = 8 << 20
_MOST_BYTES = 120 << 10  # a job file takes little more
_MOST_LINES = 200
_ALL = '  - "*"'
_NAME_WIDTH = 44
_UNPRINTABLE = re.compile(r"[^\x20-\x7e\xa0-\u2027\u202a-\ud7ff\ue000-\ufefe\uff00-\ufffd\U00010000-\U0010ffff]")


@dataclass(frozen=True)
class Drafted:
    """What a draft is to say. ``query`` is in place of the source's object; ``layout`` a saved one's name or a layout's keys."""

    source_object: str
    target_object: str
    query: str = ""
    layout: str | dict[str, Any] | None = None
    mode: str = "append"
    keys: Sequence[str] = ()

    def from_structure(self, source: ConnectionSpec) -> dict[str, Any]:
        key = "query" if self.query else "table" if holds_tables(source.kind) else "files"
        said: dict[str, Any] = {"connection": source.name, key: self.query or self.source_object}
        return said | ({"layout": self.layout} if self.layout else {})


def draft(source: ConnectionSpec, target: ConnectionSpec, drafted: Drafted, saved: LayoutFile | None = None) -> str:
    """The text of a job file from one object into a table that is there or will be made, or into a file; UltravectError
    when the source cannot be opened or the target cannot be reached. ``saved`` is the layout that is named."""
    target_object = drafted.target_object
    called = "query" if drafted.query else _called(source, drafted.source_object)
    structure = {
        "ultravect": 1,
        "job": slug(f"{called}-into-{_called(target, target_object)}"),
        "from": drafted.from_structure(source),
        "into": _into_structure(target, drafted),
    }
    job = job_from_data(structure)
    plan = make_plan(job, source, target, saved, scan_limit=_SCAN_BYTES)
    first = next((error for error in plan.errors if error.code not in _FIXED_BY_MAPPING), None)
    if plan.reader is None or plan.target is None or plan.table is None or (first and not plan.live):
        problem = first or plan.errors[0]
        raise UltravectError(problem.code, problem.message, hint=problem.fix, place=problem.place)
    nameless = next((error.replacement for error in plan.errors if error.code == "names-missing"), None)
    if nameless is not None and not isinstance(drafted.layout, str):
        # the names of the table, by position; asked anew, the file has them
        named = (
            nameless.value if nameless.place == "from.layout" else {**(drafted.layout or {}), "names": nameless.value}
        )
        return draft(source, target, replace(drafted, layout=named), saved)
    columns = _mapped(plan) if plan.live else [_line(plan, column) for column in plan.columns]
    if all(line.lstrip().startswith("#") for line in columns):
        columns.insert(
            0,
            '  - "*"'.ljust(_NAME_WIDTH)
            + f" # none of its columns is one of {plan.live.name if plan.live else 'it'}",
        )
    head, tail = _head(job, drafted.from_structure(source)), _into(plan, target, drafted)
    if sum(len(line.encode()) + 1 for line in [*head, *columns, *tail]) > _MOST_BYTES:
        remark = f"# all {len(columns):,} columns as they are; with a line for each, this file would be too large"
        return "\n".join([*head, _ALL.ljust(_NAME_WIDTH) + " " + remark, *tail[:_MOST_LINES], ""])
    return "\n".join([*head, *columns, *tail, ""])


_FIXED_BY_MAPPING = frozenset(
    ["column-required", "no-columns", "column-not-in-target", "column-generated", "names-missing"]
)


def _called(place: ConnectionSpec, name: str) -> str:
    """What a job may call an object: a file by the last part of its path, without placeholders and ending."""
    if holds_tables(place.kind):
        return name
    last = re.sub(r"\{[^}]*\}", "", name.rstrip("/").rsplit("/", 1)[-1])
    return re.sub(r"(\.\w+)+$", "", last)


def slug(text: str) -> str:
    """A name that a job can have."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:64].strip("-") or "draft"


def scalar(text: str) -> str:
    """A text as YAML writes it on one line."""
    odd = _UNPRINTABLE.search(text) is not None
    dumped = yaml.safe_dump(text, width=10_000, allow_unicode=not odd, default_style='"' if odd else None)
    return dumped.removesuffix("...\n").strip()


def _head(job: Job, source: dict[str, Any]) -> list[str]:
    lines = ["ultravect: 1", f"job: {job.job}", "", "from:"]
    for key, value in source.items():
        if isinstance(value, dict):
            dumped = yaml.safe_dump(value, sort_keys=False, allow_unicode=True).splitlines()
            lines += [f"  {key}:", *(f"    {line}" for line in dumped)]
        else:
            lines.append(f"  {key}: {scalar(value)}")
    return [*lines, "", "columns:"]


def _shown(text: str) -> str:
    """A comment, which ends with its line and takes no other characters than YAML does."""
    return "# " + _UNPRINTABLE.sub(lambda found: f"\\x{ord(found[0]):02x}", text)


def _commented(item: str, comment: str) -> str:
    line = f"  - {scalar(item)}"
    return f"{line.ljust(_NAME_WIDTH)} {_shown(comment)}" if comment else line


def _line(plan: Planning, column: ColumnPlan) -> str:
    """A column of a table that will be made."""
    assert plan.reader is not None and plan.target is not None
    found = plan.target.dialect.from_canonical(column.type)
    shown = [f"{found.native}, {found.fit}" + (f": {found.change}" if found.change else "")]
    if column.inferred is not None:
        shown.append(column.inferred.evidence)
    return _commented(f"{quoted(column.source)} {column.type}", "; ".join(shown))


def _mapped(plan: Planning) -> list[str]:
    """Every column of the source: the target's column that it goes into, or that there is none."""
    assert plan.reader is not None and plan.live is not None
    lines = []
    matches = dict(loosely_matched(plan.reader.names, [column.name for column in plan.live.columns]))
    assert plan.target is not None
    for name, known in fitted(plan.target.dialect, plan.reader.names).items():
        if name not in matches and known not in matches.values() and plan.live.column(known):
            matches[name] = known
    for position, name in enumerate(plan.reader.names):
        match = matches.get(name)
        if match is None:
            lines.append(
                f"  # - {scalar(quoted(name))}".ljust(_NAME_WIDTH) + f" # {plan.live.name} has no such column"
            )
            continue
        column = plan.live.column(match)
        assert column is not None
        item = quoted(name) if match == name else f"{quoted(name)} as {quoted(match)}"
        lines.append(_commented(item, _fit(plan.reader.given[position], column, name)))
    filled = set(matches.values())
    for column in plan.live.columns:
        if column.name not in filled and not column.generated:
            needed = (
                "takes no NULL and has no default" if not (column.nullable or column.has_default) else "is not filled"
            )
            item = "  " + _shown(f"- … as {quoted(column.name)}")
            lines.append(f"{item.ljust(_NAME_WIDTH)} # {column.native} {needed}")
    return lines


def _fit(source: CanonicalType | None, column: LiveColumn, name: str) -> str:
    shown = f"{column.native}"
    if source is not None and column.type is not None:
        pair = pair_fit(source, column.type)
        shown += ", not convertible" if pair is None else f", {pair[0]}" + (f": {pair[1]}" if pair[1] else "")
    if column.name == name:
        return shown
    why = "the names differ in case or marks only" if folded(column.name) == folded(name) else "as in a new table"
    return f"{shown}; {why}"


def _into_structure(target: ConnectionSpec, drafted: Drafted) -> dict[str, Any]:
    said: dict[str, Any] = {"connection": target.name, "mode": drafted.mode}
    if drafted.keys:
        said["keys"] = list(drafted.keys)
    if not holds_tables(target.kind):
        return said | {"files": drafted.target_object}
    return said | {"table": drafted.target_object, "if_different": "ignore"}


def _into(plan: Planning, target: ConnectionSpec, drafted: Drafted) -> list[str]:
    key = "table" if holds_tables(target.kind) else "files"
    lines = ["", "into:", f"  connection: {target.name}", f"  {key}: {scalar(drafted.target_object)}"]
    lines.append(
        f"  mode: {drafted.mode}".ljust(_NAME_WIDTH)
        + " # "
        + ("append, overwrite or upsert" if key == "table" else "append or overwrite")
    )
    unique = min((sorted(names) for names in plan.live.unique), key=len, default=[]) if plan.live else []
    if drafted.keys:
        lines.append(f"  keys: [{', '.join(map(scalar, drafted.keys))}]")
    elif unique:
        lines.append(
            f"  # keys: [{', '.join(map(scalar, unique))}]".ljust(_NAME_WIDTH) + " # what upsert would match by"
        )
    if key == "table" and plan.live is None:
        lines += [
            "  if_missing: create",
            *_comment("The table is missing; a run creates it:", ";\n".join(plan.ddl).split("\n")),
        ]
    minded = [finding for finding in plan.findings if finding.severity != "note"]
    if minded:
        lines += ["", "# To be minded:"]
        lines += [
            _shown(f"  {item.severity} {item.code}: {item.message}" + (f" ({item.fix})" if item.fix else ""))
            for item in minded
        ]
    return lines


def _comment(head: str, text: Sequence[str]) -> list[str]:
    return [f"  # {head}", *("  " + _shown(f"  {line}").rstrip() for line in text)]
