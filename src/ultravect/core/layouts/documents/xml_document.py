"""An XML document with an element a row, read as a stream; entities are never resolved."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from typing import Any

from lxml import etree

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile, file_empty
from ultravect.core.layouts.documents.records import OWN_TEXT, flat
from ultravect.core.layouts.documents.shared import DocumentKind, is_unsure, open_document
from ultravect.core.layouts.table import TableReader
from ultravect.core.model.finding import Finding, Replacement
from ultravect.core.model.layout import XmlLayout
from ultravect.core.words import counted

_BLOCK_ROWS = 10_000
_LOOK_ELEMENTS = 20_000
_BARE = 0.5
"""What an element counts that has no values in it but its own text."""

_FEW, _FAR_MORE = 10, 20
_CELLS = frozenset(["td", "th", "cell", "c", "v", "value", "col", "column"])


def _local(tag: Any) -> str:
    """A name without its namespace."""
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""


def _broken(file: SourceFile, error: etree.XMLSyntaxError) -> UltravectError:
    line = error.lineno or None
    return UltravectError(
        "xml-broken",
        f"{file.path}{f', line {line:,}' if line else ''} is not whole XML: {(error.msg or 'it ends early')[:200]}",
        hint="it is cut off or damaged; fetch it again",
        object=file.path,
        line=line,
    )


def _refuse_entities(file: SourceFile, document: Any) -> None:
    info = document.getroottree().docinfo
    if info.internalDTD is not None and any(True for _ in info.internalDTD.iterentities()):
        raise UltravectError(
            "xml-entities",
            f"{file.path} declares entities in its DOCTYPE; they can pull in other files, or swell without end, so they "
            "are refused",
            hint="write the document without <!ENTITY …>, or have its sender resolve them",
            object=file.path,
        )


def _events(file: SourceFile) -> Iterator[tuple[str, Any, list[str]]]:
    """Starts and ends of elements, each with the names on the way to it."""
    path: list[str] = []
    with closing(file.open()) as stream:
        try:
            parser = etree.iterparse(
                stream,
                events=("start", "end"),
                resolve_entities=False,
                no_network=True,
                load_dtd=False,
                huge_tree=False,
            )
            for event, element in parser:
                if event == "start":
                    if not path:
                        _refuse_entities(file, element)
                    path.append(_local(element.tag))
                    yield "start", element, path
                else:
                    yield "end", element, path
                    path.pop()
        except etree.XMLSyntaxError as error:
            raise _broken(file, error) from None


def _release(element: Any) -> None:
    """Frees an element that was read, and those before it."""
    element.clear(keep_tail=False)
    parent = element.getparent()
    while parent is not None and element.getprevious() is not None:
        del parent[0]


@dataclass
class _Candidate:
    """Elements of one path: how many there are, the names of the values in them, and how often each name was there."""

    path: tuple[str, ...]
    rows: int = 0
    names: Counter[str] = field(default_factory=Counter)
    cells: int = 0
    """Values under names that come more than once in a row, as in a row of cells."""

    labels: list[str] = field(default_factory=list)
    """What attributes say that they are called."""

    @property
    def values(self) -> float:
        return max((sum(self.names.values()) + self.cells) / max(self.rows, 1), _BARE)

    @property
    def score(self) -> float:
        most = len(self.names) * self.rows
        return self.rows * self.values * (sum(self.names.values()) / most if most else 1.0)

    def __str__(self) -> str:
        return f"{'/'.join(self.path)} ({self.rows:,} of about {counted(round(max(self.values, 1)), 'value')})"


def find_rows(file: SourceFile) -> tuple[str, str, list[str], Finding | None]:
    """The path of the elements that are rows, the reason, names for the cells of rows that have none, and a doubt.

    Of elements that repeat, those with most values are meant; of elements inside others, the outer ones, unless these are few.
    """
    found = _candidates(file)
    repeated = [item for item in found.values() if item.rows > 1 and len(item.path) > 1]
    if not repeated:
        only = [path for path in found if len(path) == 2]
        if len(only) != 1:
            raise UltravectError(
                "no-rows-found",
                f"{file.path} has no element that repeats, so nothing in it is rows",
                hint="set layout.rows to the path of the elements that are rows, such as inspections/inspection",
                object=file.path,
            )
        return "/".join(only[0]), f"the one element in the root is {only[0][-1]!r}", [], None
    outer = [item for item in repeated if not any(_holds(other, item) for other in repeated)]
    ranked = sorted(outer, key=lambda item: (-item.score, len(item.path)))
    best = ranked[0]
    at_least = "at least " if sum(item.rows for item in found.values()) >= _LOOK_ELEMENTS else ""
    reason = f"the element {best.path[-1]!r} repeats, {at_least}{best.rows:,} times"
    doubt = None
    if len(ranked) > 1:
        other = ranked[1]
        reason += f"; next best {other}"
        if is_unsure(best.score, other.score):
            rows = "/".join(other.path)
            fix = f"if those are the rows, write layout.rows: {rows}; if these, layout.rows: {'/'.join(best.path)}"
            said = f"the rows may be {best}, or {other}"
            doubt = Finding("warning", "rows-unsure", said, "from.layout", fix, Replacement("from.layout.rows", rows))
    cells = round(best.values)
    fitting = [item for item in found.values() if len(item.labels) == cells and best.cells]
    # of several, those that stand next to the rows
    named = max(fitting, key=lambda item: _shared(item.path, best.path)).labels if fitting else []
    return "/".join(best.path), reason, named if len(set(named)) == len(named) else [], doubt


def _shared(one: Sequence[str], other: Sequence[str]) -> int:
    """How many steps two paths have in common from the root."""
    return sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], zip(one, other, strict=False)))


def _holds(other: _Candidate, item: _Candidate) -> bool:
    """Whether an element is a part of rows, and not a row."""
    inside = len(other.path) < len(item.path) and item.path[: len(other.path)] == other.path
    few = other.rows < _FEW and item.score > _FAR_MORE * other.score
    return inside and not few


def _candidates(file: SourceFile) -> dict[tuple[str, ...], _Candidate]:
    """What the first elements of a document have in them, by their paths."""
    found: dict[tuple[str, ...], _Candidate] = {}
    counts: list[Counter[str]] = []
    seen = 0
    for event, element, path in _events(file):
        if event == "start":
            candidate = found.setdefault(tuple(path), _Candidate(tuple(path)))
            candidate.rows += 1
            candidate.names.update({_local(name): 1 for name in element.attrib})
            if name := element.get("name"):
                candidate.labels.append(name)
            counts.append(Counter())
            seen += 1
        else:
            counts.pop()
            if len(path) > 1 and not len(element):
                # an element without elements in it is a value of the one around it
                around, name = found[tuple(path[:-1])], _local(element.tag)
                counts[-1][name] += 1
                if counts[-1][name] == 1:
                    around.names[name] += 1
                else:
                    around.cells += 1
            if len(path) > 1:
                element.clear()
        if seen >= _LOOK_ELEMENTS:
            break
    return found


def _value(element: Any) -> Any:
    """Text, or a mapping of attributes and child elements; those that repeat become a list."""
    children = [child for child in element if isinstance(child.tag, str)]
    text = (element.text or "").strip()
    if not children and not element.attrib:
        return text or None
    if len(children) > 1 and _are_cells(children):
        return {f"column_{number}": _value(child) for number, child in enumerate(children, 1)}
    found: dict[str, Any] = {_local(name): value for name, value in element.attrib.items()}
    for child in children:
        name, value = _local(child.tag), _value(child)
        if name not in found:
            found[name] = value
        elif isinstance(found[name], list):
            found[name].append(value)
        else:
            found[name] = [found[name], value]
    if text:
        found = {OWN_TEXT: text, **found}
    return found


def _are_cells(children: list[Any]) -> bool:
    """Whether elements are values in their order, as in rows of tables."""
    name = _local(children[0].tag)
    return name.lower() in _CELLS and all(_local(child.tag).lower() in _CELLS for child in children)


def _records(file: SourceFile, layout: XmlLayout) -> Iterator[tuple[int, dict[str, Any]]]:
    """Every row as flat names and values, with the line it starts at."""
    wanted = (layout.rows or "").strip("/").split("/")
    names = {f"column_{number}": name for number, name in enumerate(layout.names or (), 1)}
    inside = 0
    for event, element, path in _events(file):
        if event == "start":
            inside += path == wanted
        elif path == wanted:
            inside -= 1
            value = _value(element)
            record = value if isinstance(value, dict) else {_local(element.tag): value}
            if OWN_TEXT in record:
                record = {_local(element.tag): record[OWN_TEXT], **{k: v for k, v in record.items() if k != OWN_TEXT}}
            named = {names.get(name, name): entry for name, entry in record.items()} if names else record
            yield element.sourceline, flat(named, layout.flatten, layout.separator)
            _release(element)
        elif not inside and len(path) > 1:
            _release(element)


_KIND = DocumentKind(
    "element", "elements", _BLOCK_ROWS, lambda batch, values: int(values.nbytes), typed_values=False, has_nul=False
)


def open_xml(file: SourceFile, layout: XmlLayout) -> TableReader:
    """Opens an XML document; the first rows say the columns."""
    findings: list[Finding] = []
    if file.size == 0:
        raise file_empty(file.path, "is empty: it has no rows")
    if layout.rows is None:
        rows, reason, names, doubt = find_rows(file)
        layout = layout.model_copy(update={"rows": rows, "names": layout.names or names or None})
        findings.append(doubt or Finding("note", "rows-found", f"the rows are {rows}: {reason}", "from.layout"))
    nothing = UltravectError(
        "no-rows-found",
        f"{file.path} has no element {layout.rows}",
        hint="set layout.rows to the path of the elements that are rows, from the root; left out, it is found",
        object=file.path,
    )
    whole = layout
    return open_document(file, whole, _KIND, lambda: _records(file, whole), nothing, findings)
