"""How files are written: one model a format, which gives forms, schema and docs."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Discriminator, Field, Tag

from ultravect.core.model.base import Character, Declared, Size

_ENDINGS = {
    ".csv": "delimited",
    ".tsv": "delimited",
    ".psv": "delimited",
    ".txt": "delimited",
    ".jsonl": "jsonl",
    ".ndjson": "jsonl",
    ".parquet": "parquet",
    ".xlsx": "xlsx",
}
ENDING = {"delimited": ".csv", "jsonl": ".jsonl", "parquet": ".parquet", "xlsx": ".xlsx"}
PART = "part"
"""The placeholder in a file name that numbers the files of one load."""

COMPRESSED = (".gz", ".zst", ".bz2")
_CELL = re.compile(r"[A-Z]{1,3}[1-9][0-9]{0,6}")
_SHEET = re.compile(r"^(?P<book>.+\.xlsx)/(?P<sheet>[^/]+)$", re.I)


class WrittenDelimited(Declared):
    """Rows of values with a delimiter between them, in UTF-8; an empty text is written "", NULL as nothing."""

    format: Literal["delimited"] = "delimited"
    delimiter: Character = ","
    header: bool = Field(default=True, description="Whether the first row names the columns.")
    formulas: Literal["text", "live"] = Field(
        default="text",
        description="text: a text that a spreadsheet would compute when it opens the file (it starts with =, +, -, @ or a tab, "
        "and is no number) gets a ' in front, and the run says how many. live: it is written as it is.",
    )


class WrittenJsonl(Declared):
    """A JSON object a line."""

    format: Literal["jsonl"]


class WrittenParquet(Declared):
    """Columns in row groups, with their types."""

    format: Literal["parquet"]
    compression: Literal["zstd", "snappy", "gzip", "none"] = "zstd"
    row_group_rows: int = Field(default=500_000, ge=1, le=10_000_000, description="Rows of a row group.")
    partition_by: list[str] = Field(
        default=[], description="Columns whose values name folders (`hut=007/`) instead of standing in the files."
    )


def _cell(value: str) -> str:
    if not _CELL.fullmatch(value):
        raise ValueError(f"{value!r} is no cell: write one such as B4")
    return value


class WrittenXlsx(Declared):
    """One sheet of a workbook, with real numbers and dates."""

    format: Literal["xlsx"]
    sheet: str = Field(default="rows", min_length=1, max_length=31)
    header: bool = Field(default=True, description="Whether the first row names the columns.")
    template: str | None = Field(
        default=None,
        min_length=1,
        description="A workbook of the same connection that is filled: its other sheets, formats and formulas are those of the new one.",
        examples=["templates/season.xlsx"],
    )
    start: Annotated[str, AfterValidator(_cell)] = Field(
        default="A1",
        description="The cell where the rows begin, with the row of names if there is one.",
        examples=["B4"],
    )


AnyWritten = WrittenDelimited | WrittenJsonl | WrittenParquet | WrittenXlsx
_BY_FORMAT: dict[str, type[AnyWritten]] = {
    "delimited": WrittenDelimited,
    "jsonl": WrittenJsonl,
    "parquet": WrittenParquet,
    "xlsx": WrittenXlsx,
}


def _format_of(value: Any) -> str:
    named = value.get("format", "delimited") if isinstance(value, dict) else getattr(value, "format", "")
    return str(named)


WrittenLayout = Annotated[
    Annotated[WrittenDelimited, Tag("delimited")]
    | Annotated[WrittenJsonl, Tag("jsonl")]
    | Annotated[WrittenParquet, Tag("parquet")]
    | Annotated[WrittenXlsx, Tag("xlsx")],
    Discriminator(_format_of),
]


class Split(Declared):
    """When a new file is begun; whichever is reached first."""

    rows: int | None = Field(default=None, ge=1, description="Rows of a file.")
    size: Size | None = Field(
        default=None, description="About how large a file becomes, such as 100 MB.", examples=["100 MB"]
    )


def compression_ending(path: str) -> str:
    """``.gz``, ``.zst`` or ``.bz2`` where a file of text is to be compressed, or ""."""
    return next((ending for ending in COMPRESSED if path.lower().endswith(ending)), "")


def split_sheet(path: str) -> tuple[str, str] | None:
    """The workbook and the sheet, of a path that names one in the other: ``season.xlsx/bookings``."""
    found = _SHEET.match(path)
    return (found["book"], found["sheet"]) if found else None


def written_layout(path: str, given: AnyWritten | None) -> AnyWritten:
    """The layout that a path's ending means, or the one given; ValueError where both disagree, or neither says."""
    if (inside := split_sheet(path)) is not None:
        path, sheet = inside
        layout = written_layout(path, given)
        if given is not None and "sheet" in given.model_fields_set:
            raise ValueError(
                f"into.files names the sheet {sheet!r}, and into.layout another one: leave one of them out"
            )
        return layout
    compressed = compression_ending(path)
    plain = path[: -len(compressed)] if compressed else path
    ending = next((item for item in _ENDINGS if plain.lower().endswith(item)), "")
    if given is None:
        if not ending:
            raise ValueError(
                f"the ending of {path!r} has no known format; use one of {', '.join(_ENDINGS)}, or into.layout"
            )
        data: dict[str, Any] = {"format": _ENDINGS[ending]}
        if ending in (".tsv", ".psv"):
            data["delimiter"] = "\t" if ending == ".tsv" else "|"
        given = _BY_FORMAT[data["format"]].model_validate(data)
    elif ending and _ENDINGS[ending] != given.format:
        raise ValueError(f"{path!r} ends like a file of {_ENDINGS[ending]}, and into.layout says {given.format}")
    if compressed and given.format not in ("delimited", "jsonl"):
        raise ValueError(f"a file of {given.format} is compressed inside; leave out the ending {compressed}")
    return given
