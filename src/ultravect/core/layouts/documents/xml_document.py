"""An XML document with an element a row, read as a stream; entities are never resolved."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import closing
from typing import Any

from lxml import etree

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile, file_empty
from ultravect.core.layouts.documents.records import OWN_TEXT, flat
from ultravect.core.layouts.documents.shared import DocumentKind, open_document
from ultravect.core.layouts.table import TableReader
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import XmlLayout

_BLOCK_ROWS = 10_000
_LOOK_ELEMENTS = 20_000


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


def find_rows(file: SourceFile) -> tuple[str, str]:
    """The path of the elements that repeat, nearest to the root; and the reason."""
    count: Counter[tuple[str, ...]] = Counter()
    seen = 0
    for event, element, path in _events(file):
        if event == "start":
            count[tuple(path)] += 1
            seen += 1
        elif len(path) > 1:
            element.clear()
        if seen >= _LOOK_ELEMENTS:
            break
    repeated = [(path, number) for path, number in count.items() if number > 1 and len(path) > 1]
    if not repeated:
        only = [path for path in count if len(path) == 2]
        if len(only) != 1:
            raise UltravectError(
                "no-rows-found",
                f"{file.path} has no element that repeats, so nothing in it is rows",
                hint="set layout.rows to the path of the elements that are rows, such as inspections/inspection",
                object=file.path,
            )
        return "/".join(only[0]), f"the one element in the root is {only[0][-1]!r}"
    depth = min(len(path) for path, _ in repeated)
    commonest, number = max(((path, n) for path, n in repeated if len(path) == depth), key=lambda item: item[1])
    at_least = "at least " if seen >= _LOOK_ELEMENTS else ""
    return "/".join(commonest), f"the element {commonest[-1]!r} repeats, {at_least}{number:,} times"


def _value(element: Any) -> Any:
    """Text, or a mapping of attributes and child elements; those that repeat become a list."""
    children = [child for child in element if isinstance(child.tag, str)]
    text = (element.text or "").strip()
    if not children and not element.attrib:
        return text or None
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


def _records(file: SourceFile, layout: XmlLayout) -> Iterator[tuple[int, dict[str, Any]]]:
    """Every row as flat names and values, with the line it starts at."""
    wanted = (layout.rows or "").strip("/").split("/")
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
            yield element.sourceline, flat(record, layout.flatten, layout.separator)
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
        rows, reason = find_rows(file)
        layout = layout.model_copy(update={"rows": rows})
        findings.append(Finding("note", "rows-found", f"the rows are {rows}: {reason}", "from.layout"))
    nothing = UltravectError(
        "no-rows-found",
        f"{file.path} has no element {layout.rows}",
        hint="set layout.rows to the path of the elements that are rows, from the root; left out, it is found",
        object=file.path,
    )
    whole = layout
    return open_document(file, whole, _KIND, lambda: _records(file, whole), nothing, findings)
