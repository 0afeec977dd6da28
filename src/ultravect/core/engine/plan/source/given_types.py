"""How values of text are written whose type is known beforehand, by the table that they go into or by the job: found from the first of them.

A type that is known says more than values do: in a column of booleans, ``t`` and ``f`` can mean one thing only. What loses nothing is taken and
noted; everything else is left to the rows that do not fit, see ``look.misfit_fixes``.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.plan.planning import Planning
from ultravect.core.layouts.base import Reader
from ultravect.core.types.arrow import plain_array, text_read
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.from_text import convert
from ultravect.core.types.inference.column import ColumnInference
from ultravect.core.types.moments_from_text import plain_moments
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.types.truth import pair_of

_SAMPLE_BYTES = 256 << 10
_MOST_WORDS = 20
_RARE = 0.02
_LIKELY_YEARS = (1800, 2200)
_FRACTIONS = ("decimal", "real", "double")
_LOOKED_AT = ("boolean", "date", "timestamp", "timestamptz")


@dataclass(frozen=True)
class Given:
    """A column of the reader, by its position, whose type is known."""

    position: int
    name: str
    type: CanonicalType
    place: str


def formats_of_given(plan: Planning, columns: Sequence[Given]) -> Mapping[int, TextFormats]:
    """The formats of columns of text, by position; what was found is noted."""
    reader = plan.reader
    assert reader is not None
    texts = [column for column in columns if reader.given[column.position] is None]
    usual = replace(reader.formats, type_is_given=True)
    found = {column.position: usual for column in texts}
    unsure = getattr(getattr(reader, "layout", None), "delimiter", None) == ";" and not {
        "decimal_mark",
        "thousands",
    } & _said(reader)
    fractions = unsure and (usual.decimal_mark, usual.thousands) == (".", None)
    looked_at = [
        column for column in texts if column.type.name in _LOOKED_AT or (fractions and column.type.name in _FRACTIONS)
    ]
    if not looked_at:
        return found
    values = first_texts(reader, [column.position for column in looked_at], _SAMPLE_BYTES)
    for column in looked_at:
        if column.type.name in _FRACTIONS:
            continue
        distinct = pc.unique(values[column.position]).drop_null()
        distinct = distinct.filter(
            pc.invert(pc.is_in(pc.utf8_trim_whitespace(distinct), pa.array(usual.nulls or ("",))))
        )
        if not len(distinct):
            continue
        if column.type.name == "boolean":
            found[column.position] = _booleans(plan, column, values[column.position], distinct, usual)
        elif reader.date_pattern is None:
            found[column.position] = _dates(plan, column, distinct, usual)
    if fractions:
        _note_grouped(plan, looked_at, values)
    return found


def _said(reader: Reader) -> set[str]:
    values = getattr(getattr(reader, "layout", None), "values", None)
    return set(values.model_fields_set) if values is not None else set()


def _note_grouped(plan: Planning, columns: Sequence[Given], values: Mapping[int, pa.Array]) -> None:
    """That 1.234 may be a thousand in a file whose columns are divided by ;, as those are that write decimal commas."""
    grouped, point = [], False
    for column in columns:
        if column.type.name not in _FRACTIONS:
            continue
        texts = pc.utf8_trim_whitespace(values[column.position])
        texts = texts.filter(pc.match_substring_regex(texts, r"[0-9]\.[0-9]"))
        if not len(texts):
            continue
        if bool(pc.all(pc.match_substring_regex(texts, r"^[+-]?[1-9][0-9]{0,2}(?:\.[0-9]{3})+$")).as_py()):
            grouped.append((column, texts[0].as_py()))
        else:
            point = True
    if point:
        return
    for column, shown in grouped:
        plan.add(
            "error",
            "thousands-unsure",
            f"column {column.name}: columns are divided by ;, as in files with decimal commas, so that {shown} may be {shown.replace('.', '')}",
            column.place,
            f'write from.layout.values.decimal_mark: "," if it is, or decimal_mark: "." if it is {shown}',
        )


def first_texts(reader: Reader, positions: Sequence[int], size: int) -> dict[int, pa.Array]:
    """The first values of columns as text, of about so many bytes of the file."""
    parts: dict[int, list[pa.Array]] = {position: [] for position in positions}
    seen = 0
    for block in reader.blocks():
        rows = reader.read(block)
        for position, held in parts.items():
            values = plain_array(rows.values.column(position))
            held.append(text_read(values))
        seen += block.size
        if seen >= size:
            break
    return {
        position: pa.concat_arrays(held) if held else pa.array([], pa.string()) for position, held in parts.items()
    }


def _booleans(plan: Planning, column: Given, values: pa.Array, distinct: pa.Array, usual: TextFormats) -> TextFormats:
    if len(distinct) > _MOST_WORDS or not convert(distinct, column.type, usual).failed.any():
        return usual
    words = _usual_words(values, distinct)
    has_empty = values.null_count > 0 or bool(pc.any(pc.is_in(values, pa.array(["", " "]))).as_py())
    pair = pair_of(words, empty=has_empty)
    if pair is None:
        return usual
    true, false = pair
    shown = f"{true!r} is true, {'nothing' if false == '' else repr(false)} is false"
    plan.add("note", "booleans-found", f"column {column.name}: {shown}", column.place)
    return replace(usual, true_words=(true,), false_words=(false,))


def _usual_words(values: pa.Array, distinct: pa.Array) -> set[str]:
    """The words of a column in small letters, without those that hardly any row has."""
    counted: Counter[str] = Counter()
    for entry in pc.value_counts(values.filter(pc.is_in(values, distinct))).to_pylist():
        counted[entry["values"].strip().lower()] += entry["counts"]
    few = counted.total() * _RARE
    return {word for word, count in counted.items() if count > few} or set(counted)


def _dates(plan: Planning, column: Given, distinct: pa.Array, usual: TextFormats) -> TextFormats:
    """With the pattern of dates, where other programs write them as this column does."""
    compact = replace(usual, date_pattern="YYYYMMDD")
    if bool(pc.all(pc.match_substring_regex(distinct, r"^\s*[0-9]{8}\s*$")).as_py()):
        days = convert(distinct, CanonicalType("date"), compact)
        years = pc.min_max(pc.year(days.array)).as_py()
        if not days.failed.any() and _LIKELY_YEARS[0] <= years["min"] and years["max"] <= _LIKELY_YEARS[1]:
            plan.add("note", "dates-found", f"column {column.name}: dates are written as YYYYMMDD", column.place)
            return compact
    inference = ColumnInference(column.name, usual, DATE_PATTERNS)
    texts = plain_moments(pc.utf8_trim_whitespace(distinct))
    inference.add(texts, pc.add(pa.array(range(len(texts)), pa.int64()), 1).to_numpy())
    said = inference.result()
    if said.date_pattern and not said.ambiguous:
        return replace(usual, date_pattern=said.date_pattern)
    return usual
