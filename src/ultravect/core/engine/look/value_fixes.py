"""What a layout, or the columns, would have to say so that values fit which do not: found from the first rows, and tried on them.

A fix is given only where it lets more rows fit and takes none away. Where values can be read in two ways and nothing else in the file decides, both
readings are said, as a question.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import yaml

from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.given_types import first_texts
from ultravect.core.engine.plan.source.proposals import put_in_layout
from ultravect.core.engine.plan.suggest import column_as
from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.expressions.select_list import resolve
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.layout import AnyLayout
from ultravect.core.types.arrow import convert_typed
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Mask, as_mask
from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.from_text import convert
from ultravect.core.types.inference.candidates import WORDS_FOR_NULL
from ultravect.core.types.moments_from_text import reading_of
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.types.truth import known_words

_SAMPLE_BYTES = 1 << 20
_NUMBERS = ("smallint", "integer", "bigint", "decimal", "real", "double")
_DATED = ("date", "timestamp", "timestamptz")
_MOMENTS = (*_DATED, "time")
_MARKS = ((".", ","), (",", "."), (".", None), (",", None), *(
    (point, mark) for point in (".", ",") for mark in ("'", "’", " ", "\u00a0", "\u202f", "\u2009", "_")
))  # fmt: skip
_WORD = r"[^\s\d.,'’_()+-][^\d.,()+-]{0,7}?"
_SIGN = re.compile(rf"^[-+(\s]*(?P<before>{_WORD})?\s*[-+]?[\d.,].*?[\d.,]?\s*(?P<after>{_WORD})?[\s)-]*$")
_GERMAN = re.compile(r"^\s*\d{1,2}\.\d{1,2}\.\d{2,4}")
_COMMA_DECIMAL = re.compile(r"^\s*[-+]?\d+,(?:\d{1,2}|\d{4,})\s*$")
_POINT_DECIMAL = re.compile(r"^\s*[-+]?\d+\.(?:\d{1,2}|\d{4,})\s*$")
_INTEGERS = ("smallint", "integer", "bigint")
_ISO_MOMENT = re.compile(r"\d{4}-\d{2}-\d{2}[ T]\d{2}:\d{2}")
_MOST_WORDS = 20
_MOST_SIGNS = 4
_MOST_SHOWN = 4
_INFINITE = ("infinity", "-infinity", "+infinity", "inf", "-inf")
_FINE_PLACES = 26  # of a timestamp with six digits after its seconds


@dataclass(frozen=True)
class ValueFix:
    """In words and, unless it is a question, as what is written into the job file."""

    text: str
    replacement: Replacement | None = None


@dataclass(frozen=True)
class Outcome:
    """How many rows fit, and values of the column in question; ``worse``: whether values fit no more that did before."""

    rows: int
    values: int
    worse: bool


@dataclass
class FirstRows:
    """The first rows of a file as text, on which fixes are tried."""

    plan: Planning
    texts: Mapping[int, pa.Array] = field(init=False)
    failed: dict[int, Mask] = field(init=False)

    def __post_init__(self) -> None:
        reader = self.plan.reader
        assert reader is not None
        self.columns = [
            column
            for column in self.plan.columns
            if column.expression is None and column.position >= 0 and reader.given[column.position] is None
        ]
        self.texts = first_texts(reader, [column.position for column in self.columns], _SAMPLE_BYTES)
        self.failed = {column.position: self._failed(column, column.formats) for column in self.columns}
        self.odd = {
            column.position: [
                text.strip()
                for text in pc.unique(
                    self.texts[column.position].filter(pa.array(self.failed[column.position]))
                ).to_pylist()
                if text is not None
            ]
            for column in self.columns
        }
        """Of each column, the different values that do not fit."""

    @property
    def rows(self) -> int:
        return len(next(iter(self.texts.values()))) if self.texts else 0

    def _failed(self, column: ColumnPlan, formats: TextFormats) -> Mask:
        texts = self.texts[column.position]
        failed = convert(texts, column.type, formats).failed
        if column.type.name == "text" and column.type.length is not None:
            failed = failed | as_mask(pc.greater(pc.utf8_length(texts), column.type.length))
        return failed

    def with_values(self, said: Mapping[str, Any], about: ColumnPlan) -> Outcome:
        """What becomes of the rows where ``layout.values`` says this, too, for the values of one column."""
        bad = np.zeros(self.rows, np.bool_)
        worse, own = False, 0
        for column in self.columns:
            before = self.failed[column.position]
            formats = with_said(column.formats, said)
            after = before if formats == column.formats else self._failed(column, formats)
            worse = worse or bool((after & ~before).any())
            bad |= after
            if column is about:
                own = self.rows - int(after.sum())
        return Outcome(self.rows - int(bad.sum()), own, worse)


def with_said(formats: TextFormats, said: Mapping[str, Any]) -> TextFormats:
    """The formats where ``layout.values`` says this, too."""
    changes: dict[str, Any] = {}
    for key, value in said.items():
        match key:
            case "booleans":
                changes |= {"true_words": tuple(value["true"]), "false_words": tuple(value["false"])}
            case "dates":
                changes["date_pattern"] = value
            case "nulls" | "signs":
                changes[key] = tuple(value)
            case _:
                changes[key] = value
    return replace(formats, **changes)


def fix_of_values(job: Job, rows: FirstRows, column: ColumnPlan) -> ValueFix | None:
    """What lets the values of ``column`` fit, and with it those of others; None where nothing is known that does."""
    layout = getattr(rows.plan.reader, "layout", None)
    if layout is None or not rows.odd.get(column.position):
        return None
    odd = rows.odd[column.position]
    found = _best(rows, column)
    if found is None:
        return _by_column(job, rows, column, odd) or _by_choice(rows, column)
    if found.other is not None:
        return _question(column, odd[0], [found.said, found.other])
    marks = {"decimal_mark", "thousands"} & found.said.keys()
    if (
        marks
        and not found.why
        and _decided(rows, [found.said]) is None
        and (rounded := _by_column(job, rows, column, odd)) is not None
    ):
        # they are numbers as it is, too, with more digits than there is room for
        read = _read(column, odd[0], found.said)
        return ValueFix(f"if {odd[0]} is {read}, write layout.values {yaml_of(found.said)}; {rounded.text}")
    said, whys = found.said, [found.why or _why(column, odd, found.said)]
    for another in rows.columns:
        # a row has one reason only: what else would be in its way is said at once
        if another is column or not rows.odd[another.position] or (more := _best(rows, another)) is None:
            continue
        both = {**said, **more.said}
        agree = all(both[key] == value for key, value in said.items())
        if more.other is None and agree and rows.with_values(both, column).rows > rows.with_values(said, column).rows:
            said = both
            whys.append(more.why or _why(another, rows.odd[another.position], more.said))
    return _written(job, layout, rows, column, said, "; ".join(filter(None, whys)))


@dataclass(frozen=True)
class _Reading:
    """What ``layout.values`` would say, and why; ``other`` is what it may say as well."""

    said: dict[str, Any]
    why: str = ""
    other: dict[str, Any] | None = None


def _best(rows: FirstRows, column: ColumnPlan) -> _Reading | None:
    """Of what lets values of a column fit, that which takes most and says least."""
    odd = rows.odd[column.position]
    distinct = pc.unique(pc.utf8_trim_whitespace(rows.texts[column.position])).drop_null()
    before = rows.rows - int(rows.failed[column.position].sum())
    tried = [(said, rows.with_values(said, column)) for said in _proposals(rows, column, distinct, odd)]
    better = [(said, outcome) for said, outcome in tried if not outcome.worse and outcome.values > before]
    if not better:
        return None
    said, best = max(better, key=lambda item: (item[1].values, -len(item[0])))
    others = [
        item
        for item, outcome in better
        if outcome.values == best.values and item != said and _differ(column, distinct, said, item)
    ]
    if others and column.type.name in _NUMBERS:
        decided = _decided(rows, sorted([said, *others], key=len))
        if decided is None:
            return _Reading(said, other=others[0])
        said, why = decided
        return _Reading(said, f"{why}, so that {odd[0]} is {_read(column, odd[0], said)}")
    if others and "dates" in said:
        return _Reading(said, other=others[0])
    return _Reading(said)


def _proposals(
    rows: FirstRows, column: ColumnPlan, distinct: pa.Array, odd: Sequence[str]
) -> Iterator[dict[str, Any]]:
    """What ``layout.values`` may say for a column, the simplest first."""
    # what is said is said of all columns: one edit takes the words and signs of all of them
    all_odd = [text for texts in rows.odd.values() for text in texts]
    words = sorted({text for text in all_odd if text in WORDS_FOR_NULL or text.lower() in _INFINITE})
    nulls: dict[str, Any] = {"nulls": list(dict.fromkeys([*column.formats.nulls, *words]))} if words else {}
    kind = column.type.name
    left = [text for text in odd if text not in words]
    if nulls:
        yield nulls
    if kind == "boolean":
        written = {text.lower() for text in distinct.to_pylist() if text and text not in words}
        if len(written) <= _MOST_WORDS and (known := known_words(written)) is not None and all(known):
            yield {"booleans": {"true": known[0], "false": known[1]}, **nulls}
    if kind in _NUMBERS:
        signs = _signs(
            [
                text
                for item in rows.columns
                if item.type.name in _NUMBERS
                for text in rows.odd[item.position]
                if text not in words
            ]
        )
        for with_signs, (point, mark) in itertools.product(({"signs": signs},) if signs else ({},), _MARKS):
            if said := {**with_signs, **_marks(point, mark, column.formats), **nulls}:
                yield said
    if kind in _MOMENTS:
        numbers = sorted((text for text in left if re.fullmatch(r"\d+(?:\.\d+)?", text)), key=float)
        if numbers and (reading := reading_of(numbers[0], numbers[-1])):
            yield {"numbers_as": reading[0], **nulls}
    if kind in _DATED:
        for pattern in (*DATE_PATTERNS, "YYYYMMDD"):
            if pattern != column.formats.date_pattern:
                yield {"dates": pattern, **nulls}
    if kind == "timestamptz" and not column.formats.time_zone:
        yield {"time_zone": "UTC", **nulls}
        for pattern in DATE_PATTERNS:
            if pattern != column.formats.date_pattern:
                yield {"time_zone": "UTC", "dates": pattern, **nulls}


def _marks(point: str, mark: str | None, formats: TextFormats) -> dict[str, Any]:
    """One of them written lets none of both be found any more."""
    if (point, mark) == (formats.decimal_mark, formats.thousands):
        return {}
    said = {"decimal_mark": point} if point != "." or formats.decimal_mark != "." else {}
    return {**said, **({"thousands": mark} if mark else {})} or {"decimal_mark": point}


def _signs(texts: Sequence[str]) -> list[str]:
    """What stands before or after the numbers, all of it; [] where that is too much to be signs."""
    found: dict[str, None] = {}
    for text in texts:
        if match := _SIGN.match(text):
            for sign in (match["before"], match["after"]):
                if sign and not re.fullmatch(r"[eE]", sign):
                    found[sign.strip()] = None
    return list(found) if len(found) <= _MOST_SIGNS else []


def _differ(column: ColumnPlan, distinct: pa.Array, one: Mapping[str, Any], other: Mapping[str, Any]) -> bool:
    """Whether two ways to read the values give different ones."""
    first, second = (convert(distinct, column.type, with_said(column.formats, said)).array for said in (one, other))
    return not first.equals(second)


def _decided(rows: FirstRows, readings: Sequence[dict[str, Any]]) -> tuple[dict[str, Any], str] | None:
    """Which of the readings the rest of the file speaks for, and what does; None where nothing does, or both."""
    comma, point = "", ""
    delimiter = getattr(getattr(rows.plan.reader, "layout", None), "delimiter", None)
    if delimiter == ";":
        comma = "columns are divided by ;"
    for position, texts in rows.texts.items():
        name = rows.plan.reader.names[position] if rows.plan.reader else ""
        values = [text for text in pc.unique(texts).slice(0, 1000).to_pylist() if text]
        if values and all(_GERMAN.match(text) for text in values):
            comma = f"dates are written as {values[0]} in column {name}"
        elif any(_COMMA_DECIMAL.match(text) for text in values) and not any("." in text for text in values):
            comma = f"numbers have a decimal comma in column {name}"
        elif (
            values
            and any(_POINT_DECIMAL.match(text) for text in values)
            and all(re.fullmatch(r"\s*[-+]?[\d.,]+\s*", text) for text in values)
        ):
            point = f"numbers have a decimal point in column {name}"
    if bool(comma) == bool(point):
        return None
    wanted = "," if comma else "."
    for said in readings:
        if said.get("decimal_mark", ".") == wanted:
            return said, comma or point
    return None


def _read(column: ColumnPlan, value: str, said: Mapping[str, Any]) -> Any:
    return convert(pa.array([value]), column.type, with_said(column.formats, said)).array[0].as_py()


def _question(column: ColumnPlan, value: str, readings: Sequence[Mapping[str, Any]]) -> ValueFix:
    shown = [f"{yaml_of(said)} if {value} is {_read(column, value, said)}" for said in readings]
    return ValueFix(f"nothing else in the file says what {value} is: write layout.values {' or '.join(shown)}")


def _why(column: ColumnPlan, odd: Sequence[str], said: Mapping[str, Any]) -> str:
    if "numbers_as" in said:
        numbers = sorted((text for text in odd if re.fullmatch(r"\d+(?:\.\d+)?", text)), key=float)
        reading = reading_of(numbers[0], numbers[-1])
        return reading[1] if reading else ""
    if "time_zone" in said:
        return "if these are times in UTC; another zone is written like Europe/Zurich"
    return ""


def _written(
    job: Job, layout: AnyLayout, rows: FirstRows, column: ColumnPlan, said: Mapping[str, Any], why: str
) -> ValueFix:
    outcome = rows.with_values(said, column)
    tried = (
        f"with this, {outcome.rows:,} of the first {rows.rows:,} rows fit"
        if outcome.rows == outcome.values
        else f"with this, {outcome.values:,} of the first {rows.rows:,} values of {column.name} fit"
    )
    text = f"{why + ': ' if why else 'if so, '}write layout.values {yaml_of(said)}; {tried}"
    # keys that are said already stay
    values = {**layout.values.model_dump(mode="json", exclude_unset=True, exclude_defaults=True), **said}
    if len(said) == 1:
        ((key, value),) = said.items()
        return ValueFix(text, put_in_layout(layout, f"values.{key}", value, job))
    return ValueFix(text, put_in_layout(layout, "values", values, job))


def yaml_of(said: Mapping[str, Any]) -> str:
    """As it is written into a job file, on one line."""
    return str(
        yaml.safe_dump(dict(said), default_flow_style=True, allow_unicode=True, sort_keys=False, width=10**6)
    ).strip()


def _by_column(job: Job, rows: FirstRows, column: ColumnPlan, odd: Sequence[str]) -> ValueFix | None:
    """What is written for the column itself: a zone that is left out, or digits that are cut off, on purpose."""
    reader = rows.plan.reader
    assert reader is not None
    entry = next((item for item in resolve(job.columns, reader.names) if item.position == column.position), None)
    if entry is None:
        return None
    name, texts = quoted(column.source), pa.array(odd)
    written, why = "", ""
    if (
        column.type.name == "timestamp"
        and not convert(texts, CanonicalType("timestamptz"), column.formats).failed.any()
    ):
        written, why = f"{name} at time zone 'UTC' as {quoted(entry.name)}", "for the time in UTC, without its zone"
    elif column.type.name in ("timestamp", "timestamptz") and all(re.search(r":\d\d\.\d{7,}", text) for text in odd):
        lost = f"substring({name}, 1, {_FINE_PLACES})"
        if (
            column.type.name == "timestamp"
            and not convert(pc.utf8_slice_codeunits(texts, 0, _FINE_PLACES), column.type, column.formats).failed.any()
        ):
            written, why = f"{lost} as {quoted(entry.name)}", "to cut off what is finer than microseconds"
    elif column.type.name == "timestamptz" and all(re.search(r":\d\d\.\d{7,}[Zz]$", text) for text in odd):
        written = f"substring({name}, 1, {_FINE_PLACES}) || 'Z' as {quoted(entry.name)}"
        why = "to cut off what is finer than microseconds"
    elif column.type.name == "date" and all(_ISO_MOMENT.match(text) for text in odd):
        written, why = f"substring({name}, 1, 10) as {quoted(entry.name)}", "to leave the time of day out"
    elif column.type.name == "text" and column.type.length is not None:
        length = column.type.length
        written, why = (
            f"substring({name}, 1, {length}) as {quoted(entry.name)}",
            f"to cut all after {length} characters off",
        )
    elif column.type.name in (*_INTEGERS, "decimal"):
        places = f", {column.type.scale}" if column.type.name == "decimal" and column.type.scale else ""
        rounded = convert(texts, CanonicalType("decimal", precision=38, scale=18), column.formats)
        if not rounded.failed.any() and _fits_when_rounded(rounded.array, column):
            number = f"cast({name} as decimal(38, 18))"
            written, why = f"round({number}{places}) as {quoted(entry.name)}", "to round them"
    if not written:
        return None
    return ValueFix(f"{why}, write the column as `{written}`", column_as(job, entry, written))


def _fits_when_rounded(numbers: pa.Array, column: ColumnPlan) -> bool:
    rounded = pc.round(numbers, ndigits=column.type.scale or 0)
    return not convert_typed(rounded, column.type, column.formats).failed.any()


def _by_choice(rows: FirstRows, column: ColumnPlan) -> ValueFix | None:
    """Two words of which nothing says which one is true."""
    distinct = pc.unique(pc.utf8_trim_whitespace(rows.texts[column.position])).drop_null()
    words = sorted(text for text in distinct.to_pylist() if text and text not in column.formats.nulls)
    if column.type.name != "boolean" or len(words) != 2:
        return None
    either = yaml_of({"booleans": {"true": [words[0]], "false": [words[1]]}})
    return ValueFix(
        f"nothing says which of {words[0]!r} and {words[1]!r} is true: write layout.values {either}, or the other way round"
    )
