"""The array of a JSON document is cut into lines, whatever stands before, in and after it."""

from __future__ import annotations

import itertools
import json
import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.errors import UltravectError
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.documents.array_lines import ArrayLines
from ultravect.core.model.layout import JsonLayout

values = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=4), inner, max_size=4),
    max_leaves=12,
)


def lines_of(document: bytes, steps: list[str], cuts: random.Random) -> list[Any] | None:
    """The elements, of bytes that come in pieces of any size; None: no array is there. ValueError: it is no document."""
    array, out, at = ArrayLines(steps), b"", 0
    while at < len(document):
        size = cuts.randint(1, 9)
        out += array.feed(document[at : at + size])
        at += size
    array.finish()
    assert out == b"" or out.endswith(b"\n")
    lines = out.split(b"\n")[:-1]
    assert array.rows == len(lines)
    return [json.loads(line) for line in lines] if array.found else None


def spaced(value: Any, chance: random.Random) -> str:
    """JSON with blanks and line ends wherever they may stand."""

    def gap() -> str:
        return chance.choice(["", "", " ", "\n", "\r\n\t", "   "])

    def written(part: Any) -> str:
        if isinstance(part, dict):
            inner = ",".join(f"{gap()}{json.dumps(key)}{gap()}:{written(item)}" for key, item in part.items())
            return f"{gap()}{{{inner}{gap()}}}{gap()}"
        if isinstance(part, list):
            return f"{gap()}[{','.join(map(written, part)) or gap()}]{gap()}"
        return gap() + json.dumps(part, ensure_ascii=chance.random() < 0.5) + gap()

    return written(value)


@settings(max_examples=300, deadline=None)
@given(
    st.lists(values, max_size=6),
    st.lists(st.text(max_size=4) | st.integers(0, 2), max_size=3),
    st.lists(values, max_size=2),
    st.integers(),
)
def test_every_element_is_a_line(rows: list[Any], way: list[str | int], others: list[Any], seed: int) -> None:
    chance = random.Random(seed)
    document: Any = rows
    for step in reversed(way):
        if isinstance(step, int):
            document = [*itertools.islice(itertools.cycle([*others, 1]), step), document, *others]
        else:
            around = [(f"{step}~{number}", other) for number, other in enumerate(others)]
            document = dict([*around[:1], (step, document), *around[1:]])
    text = spaced(document, chance).encode()
    assert lines_of(text, [str(step) for step in way], chance) == rows


@settings(max_examples=300, deadline=None)
@given(st.lists(values, min_size=1, max_size=4), st.integers(), st.integers(0, 2))
def test_what_is_damaged_is_never_read_as_something_else(rows: list[Any], seed: int, kind: int) -> None:
    chance = random.Random(seed)
    text = bytearray(spaced({"a": [1, {"b": 2}], "rows": rows}, chance).encode())
    at = chance.randrange(len(text))
    if kind == 0:
        del text[at:]
    elif kind == 1:
        text[at] = chance.choice(b'[]{},:"\\ 1nx')
    else:
        text.insert(at, chance.choice(b'[]{},:"\\ 1nx'))
    try:
        read = lines_of(bytes(text), ["rows"], chance)
    except ValueError:
        return
    try:
        whole = json.loads(bytes(text))
    except ValueError:
        # what stands outside of the rows is passed over: the rows themselves are right, or said to be wrong
        whole = json.loads(b'{"rows":' + bytes(text).partition(b'"rows"')[2].partition(b":")[2]) if read else None
    if read is not None and whole is not None:
        assert read == whole["rows"]


CASES: dict[str, tuple[str, str, str]] = {
    "a comma is missing": ('{"rows": [{"a": 1} {"a": 2}]}', "json-broken", "no comma between two elements"),
    "a comma too many": ('{"rows": [{"a": 1},]}', "json-broken", "a comma has nothing after it"),
    "two commas": ('{"rows": [{"a": 1},,{"a": 2}]}', "json-broken", "an element is expected, not ','"),
    "a line end in a text": ('{"rows": [{"a": "x\ny"}]}', "json-broken", "a line end or another control character"),
    "it ends early": ('{"rows": [{"a": 1}], "more": [', "json-broken", "ends before it is complete"),
    "another document": (
        '{"rows": [{"a": 1}]}\n{"rows": [{"a": 2}]}',
        "json-broken",
        "after the end of the document",
    ),
    "rows twice": ('{"rows": [{"a": 1}], "rows": [{"a": 2}]}', "json-broken", "'rows', which leads to the rows"),
    "no array there": ('{"rows": {"a": 1}}', "no-rows-found", "no array at /rows"),
    "nothing there": ('{"data": [{"a": 1}]}', "no-rows-found", "no array at /rows"),
    "only numbers": ('{"rows": [1, 2]}', "no-rows-found", "no element holds a JSON object"),
}


@pytest.mark.parametrize("case", CASES)
def test_what_is_wrong_is_said(case: str) -> None:
    text, code, said = CASES[case]
    layout = JsonLayout(format="json", rows="/rows", form="objects")
    with pytest.raises(UltravectError) as error:
        list(open_layout(file_of("a.json", text.encode()), layout).blocks())
    assert (error.value.code, said in error.value.detail) == (code, True), error.value.detail
