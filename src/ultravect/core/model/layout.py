"""How the bytes of a file become rows and columns: one model a format, which gives forms, schema and docs."""

from __future__ import annotations

import codecs
import re
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Discriminator, Field, Tag, TypeAdapter, model_validator

from ultravect.core.model.base import Character, Declared
from ultravect.core.model.layout_values import Values

_RANGE_NAME = re.compile(r"^[^\W\d][\w.]{0,254}$")
_RANGE = re.compile(r"^\$?[A-Za-z]{1,3}\$?[1-9]\d{0,6}(:\$?[A-Za-z]{1,3}(\$?[1-9]\d{0,6})?)?$")


def _encoding(value: str) -> str:
    try:
        codecs.lookup(value)
    except LookupError:
        raise ValueError("not an encoding known here; common ones are utf-8, utf-16, latin-1, cp1252") from None
    return value


BLANKS = "blanks"


def _delimiter(value: str) -> str:
    if not 1 <= len(value.encode()) <= 16 or "\n" in value or "\r" in value:
        raise ValueError('one character or a few, no line end, such as "," or "||" or "\\t"; or the word blanks')
    return value


def _cell_range(value: str) -> str:
    if not _RANGE.match(value) and not _RANGE_NAME.match(value):
        raise ValueError(
            "a range is written B3:F200, or B3:F for all rows below, or B3 for all after it; or it is the name of a table or range"
        )
    return value


def _pointer(value: str) -> str:
    if value and not value.startswith("/"):
        raise ValueError('a JSON Pointer starts with /, such as /data/rows; "" is the document itself')
    return value


Encoding = Annotated[str, AfterValidator(_encoding)]


EncodingFound = Annotated[Encoding | None, Field(description="Left out: detected.", examples=["utf-8", "latin-1"])]


class DelimitedLayout(Declared):
    """Rows of values with a delimiter between them."""

    format: Literal["delimited"] = "delimited"
    encoding: EncodingFound = None
    delimiter: Annotated[str, AfterValidator(_delimiter)] | None = Field(
        default=None,
        description="One character or several; blanks: any run of spaces and tabs. Left out: found from the first rows.",
    )
    quote: Character | Literal["none"] = Field(default='"', description='Around values. Left out: found, usually ".')
    escape: Character | None = Field(
        default=None,
        description='Character that takes the meaning from the next one, such as "\\\\". Left out: found.',
    )
    frame: bool | None = Field(
        default=None,
        description="Whether the table is drawn: | between values and around rows, with blanks, and lines of - and +. Left out: found.",
    )
    codes: bool | None = Field(
        default=None,
        description="Whether values are written as clients of databases write them: \\N is NULL, \\t, \\n, \\\\ and \\0 are characters, and "
        "nothing is quoted. Left out: found.",
    )
    skip_blanks: bool = Field(
        default=False, description='Blanks before a quoted value are left out, as in 1, "a". Left out: found.'
    )
    trailing: bool | None = Field(
        default=None, description="Whether each row ends with a delimiter after which nothing comes. Left out: found."
    )
    preamble: int | None = Field(default=None, ge=0, description="Lines before the header. Left out: found.")
    footer: int = Field(
        default=0, ge=0, le=1000, description="Lines at the end that are no rows. Left out: found for counts of rows."
    )
    comment: Annotated[str, Field(min_length=1, max_length=8)] | None = Field(
        default=None,
        description="Lines that start with this are no rows. Left out: found, for # and lines drawn of ---.",
        examples=["#"],
    )
    header: bool | Annotated[int, Field(ge=2, le=5)] | None = Field(
        default=None,
        description="Whether the first row names the columns; or how many rows are the header, of which the first names them, and others say "
        "units or types. Left out: found.",
    )
    names: list[str] | None = Field(
        default=None, min_length=1, description="Names of the columns, in place of the header's."
    )
    ragged: Literal["reject", "pad", "fit"] = Field(
        default="reject",
        description="Rows with another number of values. pad: short ones end in NULL; fit: long ones are cut, too.",
    )
    values: Values = Values()

    @property
    def header_rows(self) -> int:
        """How many rows are the header."""
        return int(self.header or 0)

    @model_validator(mode="after")
    def _without_quotes(self) -> DelimitedLayout:
        if self.codes and (self.escape is not None or "quote" in self.model_fields_set):
            raise ValueError(
                "with codes nothing is quoted, and a backslash begins a code: leave quote and escape out"
            )
        if (
            self.codes
            and self.delimiter is not None
            and (len(self.delimiter.encode()) > 1 or self.delimiter == "\x00")
        ):
            raise ValueError("with codes, the delimiter is one character of ASCII")
        return self

    @model_validator(mode="after")
    def _cuts(self) -> DelimitedLayout:
        cuts = [mark for mark in (self.delimiter, self.quote, self.escape, self.comment) if mark and mark != "none"]
        if len(set(cuts)) < len(cuts):
            raise ValueError("delimiter, quote, escape and comment must differ from each other")
        return self


class FixedField(Declared):
    """A field of a record. ``start`` counts characters from 1; left out, it follows the field before."""

    name: str = Field(default="", description="Left out: what the header record says above it.")
    width: int = Field(ge=1, le=100_000, description="In characters.")
    start: int | None = Field(default=None, ge=1, description="Position of its first character, from 1.")
    trim: Literal["both", "left", "right", "none"] = "both"


class FixedLayout(Declared):
    """Records of fields with fixed widths, with or without line ends."""

    format: Literal["fixed"]
    encoding: EncodingFound = None
    record: int | None = Field(
        default=None, ge=1, le=1_000_000, description="Characters in a record, its line end not counted."
    )
    terminator: Literal["none", "newline"] | None = Field(
        default=None, description="none: one record follows the other on the same line. Left out: found."
    )
    header: bool | None = Field(
        default=None, description="Whether the first record names the fields. Left out: found."
    )
    preamble: int = Field(default=0, ge=0, description="Records before the header. Left out: found.")
    footer: int = Field(default=0, ge=0, le=1000, description="Records at the end that are no rows.")
    fields: list[FixedField] = Field(default=[], description="Left out: found from the gaps between columns.")
    values: Values = Values()

    @model_validator(mode="after")
    def _inside(self) -> FixedLayout:
        end = 0
        for field in self.fields:
            begin = field.start - 1 if field.start else end
            end = begin + field.width
            if self.record is not None and end > self.record:
                raise ValueError(f"field {field.name!r} ends at {end}, beyond the record's {self.record} characters")
        return self


class _Nested(Declared):
    """What formats with nesting share."""

    flatten: int = Field(
        default=8, ge=0, le=32, description="Levels of nested objects that become columns of their own; 0: none."
    )
    separator: str = Field(
        default="_", max_length=4, description="Between the names of the levels: reading_wind_speed."
    )
    keys: list[str] = Field(default=[], description="Further columns, which the first rows lack.")


class JsonLinesLayout(_Nested):
    """One JSON object a line."""

    format: Literal["jsonl"]
    encoding: EncodingFound = None
    rows: Annotated[str, AfterValidator(_pointer)] = Field(
        default="", description="JSON Pointer to the row in each line; to an array: each element is a row."
    )
    values: Values = Values()


class JsonLayout(_Nested):
    """A JSON document that holds rows."""

    format: Literal["json"]
    encoding: EncodingFound = None
    form: Literal["objects", "arrays", "keyed", "columns"] | None = Field(
        default=None,
        description="objects: an array of objects; arrays: an array of arrays; keyed: objects, each under a key that becomes the "
        "column key; columns: arrays of values, one a column. Left out: found.",
    )
    names: list[str] | None = Field(
        default=None, min_length=1, description="Names of the columns, for arrays. Left out: found, or the first row."
    )
    rows: Annotated[str, AfterValidator(_pointer)] | None = Field(
        default=None, description="JSON Pointer to what holds the rows. Left out: found.", examples=["/data/readings"]
    )
    values: Values = Values()


class XmlLayout(_Nested):
    """An XML document with an element a row."""

    format: Literal["xml"]
    rows: str | None = Field(
        default=None,
        min_length=1,
        description="Path of the elements that are rows, from the root. Left out: found.",
        examples=["inspections/inspection"],
    )
    names: list[str] | None = Field(
        default=None,
        min_length=1,
        description="Names of the columns, for rows of cells in their order, such as td. Left out: found.",
    )
    values: Values = Values()


class XlsxLayout(Declared):
    """A sheet of a workbook."""

    format: Literal["xlsx"]
    sheet: str | int | None = Field(default=None, description="Name of the sheet, or its number from 1.")
    range: Annotated[str, AfterValidator(_cell_range)] | None = Field(
        default=None,
        description="Cells to read, or the name of a table or range. Left out: all that hold something.",
        examples=["B3:F200"],
    )
    footer: int = Field(
        default=0,
        ge=0,
        le=1000,
        description="Rows at the end that are none of the table. Left out: found for counts of rows.",
    )
    header: bool | int | Annotated[list[int], Field(min_length=1, max_length=5)] | None = Field(
        default=None,
        description="Row of the sheet that names the columns, or a list of such rows; false: there is none. Left out: found.",
    )
    merged: Literal["first", "repeat"] = Field(
        default="first", description="Merged cells: the value stands in the first one, or is repeated in each."
    )
    values: Values = Values()


class ParquetLayout(_Nested):
    """A Parquet file, or a folder of them with partition keys in its folders' names."""

    format: Literal["parquet"]
    partitions: bool = Field(default=True, description="Whether key=value folders become columns.")
    values: Values = Values()


def _format_of(value: Any) -> str:
    if isinstance(value, str):
        return "name"
    given = value.get("format", "delimited") if isinstance(value, dict) else getattr(value, "format", None)
    return str(given)


_Mapping = (
    Annotated[DelimitedLayout, Tag("delimited")]
    | Annotated[FixedLayout, Tag("fixed")]
    | Annotated[JsonLinesLayout, Tag("jsonl")]
    | Annotated[JsonLayout, Tag("json")]
    | Annotated[XmlLayout, Tag("xml")]
    | Annotated[XlsxLayout, Tag("xlsx")]
    | Annotated[ParquetLayout, Tag("parquet")]
)


Layout = Annotated[_Mapping, Discriminator(_format_of)]


AnyLayout = DelimitedLayout | FixedLayout | JsonLinesLayout | JsonLayout | XmlLayout | XlsxLayout | ParquetLayout
LAYOUT: TypeAdapter[AnyLayout] = TypeAdapter(Layout)
FORMATS: dict[str, type[AnyLayout]] = {
    "delimited": DelimitedLayout,
    "fixed": FixedLayout,
    "jsonl": JsonLinesLayout,
    "json": JsonLayout,
    "xml": XmlLayout,
    "xlsx": XlsxLayout,
    "parquet": ParquetLayout,
}


_REFERENCE = re.compile(r"^[a-z0-9]([a-z0-9_-]{0,62}[a-z0-9])?(@[1-9]\d{0,8})?$")


def _reference(value: Any) -> Any:
    if isinstance(value, str) and not _REFERENCE.match(value):
        raise ValueError(
            "a layout here is a mapping, or the name of a saved layout, such as weigh-slips or weigh-slips@2"
        )
    return value


LayoutName = Annotated[str, BeforeValidator(_reference)]


LayoutOrName = Annotated[_Mapping | Annotated[LayoutName, Tag("name")], Discriminator(_format_of)]


def layout_schemas() -> dict[str, Any]:
    """JSON Schema of every format's layout."""
    return {name: model.model_json_schema() for name, model in FORMATS.items()}
