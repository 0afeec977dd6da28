"""What a layout could say more of a file's values, with the evidence: words that mean NULL, signs, marks between thousands."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

from ultravect.core.layouts.base import Reader
from ultravect.core.model.finding import Finding, Replacement
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.layout import AnyLayout, JsonLayout, JsonLinesLayout, XmlLayout
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.words import counted

_MOST_LISTED = 3
_DIGITS_OF_THOUSANDS = 3
_CODES = {"nulls": "nulls-likely", "signs": "signs-likely", "thousands": "thousands-likely"}


def value_findings(reader: Reader, columns: Iterable[ColumnType], job: Job | None = None) -> list[Finding]:
    """One finding for each key of ``layout.values`` that would give columns of text a type; with the edit, for a ``job``."""
    layout = getattr(reader, "layout", None)
    if layout is None:
        return []
    columns = list(columns)
    proposing = [column for column in columns if column.proposes]
    findings = late_findings(reader, layout, job)
    for key, code in _CODES.items():
        about = [item for item in proposing if item.proposes and key in item.proposes]
        if not about:
            continue
        # of several columns, the first key has the evidence; a column is listed once
        listed = [item for item in about if next(iter(item.proposes or {})) == key] or about
        value = _joined(layout, key, [(item.proposes or {})[key] for item in about])
        words = "; ".join(f"column {item.name}: {item.evidence}" for item in listed[:_MOST_LISTED])
        more = f"; and {counted(len(listed) - _MOST_LISTED, 'column')} more" if len(listed) > _MOST_LISTED else ""
        found = value_finding(layout, code, key, value, f"{words}{more}; taken for text", job)
        findings.append(
            _of_two_readings(found, layout, columns, job) if key == "thousands" and value == "," else found
        )
    findings += _grouped_or_not(layout, columns)
    return findings


def _grouped_or_not(layout: AnyLayout, columns: Sequence[ColumnType]) -> list[Finding]:
    """That 1.234 may be a thousand, where columns are divided by ; and no number has other than three digits after its point."""
    values = layout.values
    if getattr(layout, "delimiter", None) != ";" or {"decimal_mark", "thousands"} & values.model_fields_set:
        return []
    fractions = [item for item in columns if item.type.name in ("decimal", "double") and values.decimal_mark == "."]
    if not fractions or any(item.type.scale != _DIGITS_OF_THOUSANDS for item in fractions):
        return []
    named = ", ".join(item.name for item in fractions[:_MOST_LISTED])
    message = f"column {named}: numbers with three digits after a point, in a file whose columns are divided by ;: 1.234 may be 1234"
    fix = 'write layout.values.decimal_mark: "," if it is, or decimal_mark: "." if it is 1.234'
    return [Finding("warning", "thousands-unsure", message, "from.layout", fix)]


def _of_two_readings(found: Finding, layout: AnyLayout, columns: Sequence[ColumnType], job: Job | None) -> Finding:
    """The finding that a comma stands between thousands, where it may be a decimal mark as well: what else is in the file decides."""
    dated = next((item for item in columns if item.date_pattern and "." in item.date_pattern), None)
    delimiter = getattr(layout, "delimiter", None)
    if dated is not None or delimiter == ";":
        why = (
            f"dates are written {dated.date_pattern} in column {dated.name}" if dated else "columns are divided by ;"
        )
        decimal = value_finding(layout, "decimal-mark-likely", "decimal_mark", ",", found.message, job)
        return replace(
            decimal, fix=f'{why}, so the comma is likely a decimal mark: write layout.values.decimal_mark: ","'
        )
    if delimiter == ",":
        return found  # no one who writes decimal commas divides columns by them
    points = [item for item in columns if item.type.name == "decimal" and item.type.scale]
    if points:
        return found
    question = (
        'write layout.values.thousands: "," if 1,234 is 1234, or layout.values.decimal_mark: "," if it is 1.234'
    )
    return replace(found, fix=question, replacement=None)


def in_job(finding: Finding, reader: Reader, job: Job) -> Finding:
    """A finding of a reader, with its fix as this job can take it."""
    layout, place = getattr(reader, "layout", None), finding.replacement.place if finding.replacement else ""
    if finding.replacement is None or layout is None or not place.startswith("from.layout."):
        return finding
    return replace(
        finding, replacement=put_in_layout(layout, place.removeprefix("from.layout."), finding.replacement.value, job)
    )


def late_findings(reader: Reader, layout: AnyLayout, job: Job | None) -> list[Finding]:
    """That rows have keys that are no columns, all at once."""
    late = list(getattr(reader, "late_keys", {}))
    if not late:
        return []
    listed = ", ".join(repr(item) for item in late[:10]) + (f" and {len(late) - 10:,} more" if len(late) > 10 else "")
    keys = [*layout.keys, *late] if isinstance(layout, JsonLayout | JsonLinesLayout | XmlLayout) else late
    return [
        Finding(
            "warning",
            "keys-late",
            f"rows have {counted(len(late), 'key')} that none of the first rows has: {listed}; such rows would be rejects",
            "from.layout",
            f"write layout.keys: [{', '.join(keys[:40])}{', …' if len(keys) > 40 else ''}], so that they become columns",
            put_in_layout(layout, "keys", keys, job) if job else None,
        )
    ]


def value_finding(layout: AnyLayout, code: str, key: str, value: Any, message: str, job: Job | None) -> Finding:
    """A warning whose fix writes ``value`` at ``layout.values.key``."""
    written = f"[{', '.join(_word(item) for item in value)}]" if isinstance(value, list) else _word(value)
    fix = f"if so, write layout.values.{key}: {written}"
    return Finding(
        "warning",
        code,
        message,
        "from.layout",
        fix,
        put_in_layout(layout, f"values.{key}", value, job) if job else None,
    )


def put_in_layout(layout: AnyLayout, key: str, value: Any, job: Job) -> Replacement | None:
    """``value`` at ``from.layout.key``, with the mappings around it where the job has none yet."""
    said = job.source.layout
    if isinstance(said, str):
        return None  # a saved layout is not part of the job file
    outer, _, inner = key.partition(".")
    if said is None:
        return Replacement("from.layout", {"format": layout.format, outer: {inner: value} if inner else value})
    if inner and outer not in said.model_fields_set:
        return Replacement(f"from.layout.{outer}", {inner: value})
    return Replacement(f"from.layout.{key}", value)


def _joined(layout: AnyLayout, key: str, values: Sequence[Any]) -> Any:
    if key == "thousands":
        return values[0]
    said: list[str] = list(getattr(layout.values, key))
    return list(dict.fromkeys([*said, *(word for value in values for word in value)]))


def _word(value: str) -> str:
    return f'"{value}"'
