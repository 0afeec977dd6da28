"""Fixes as edited lines: only the value changes, comments and all else stay as they were typed."""

from __future__ import annotations

import copy
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ultravect.core.model.document import JOB, DeclarationError, read_documents, write_file
from ultravect.core.model.edits import REMOVED, Items, Renamed, edit_of, with_edits

FILE = """\
ultravect: 1
job: huts   # reference data
parameters: {season: 2026}
from: {connection: incoming, files: huts.csv}

columns:
  - code as hut     # the short one
  - "* except (altitude)"

into:
  connection: warehouse
  table: hut
  # how it is written
  mode: append
  keys: [hut]

run:
  timeout: 10 min
"""

CASES: list[tuple[str, Any, int, list[str], list[str]]] = [
    ("into.table", "huts", 12, ["  table: hut"], ["  table: huts"]),
    (
        "columns.0",
        "code as hut_code",
        7,
        ["  - code as hut     # the short one"],
        ["  - code as hut_code     # the short one"],
    ),
    (
        "columns.1",
        Items(["* except (altitude, beds)", "beds as places"]),
        8,
        ['  - "* except (altitude)"'],
        ["  - '* except (altitude, beds)'", "  - beds as places"],
    ),
    ("columns.0", REMOVED, 7, ["  - code as hut     # the short one"], []),
    ("into.if_missing", "create", 16, [], ["  if_missing: create"]),
    (
        "from.where",
        "beds > 4",
        4,
        ["from: {connection: incoming, files: huts.csv}"],
        ["from: {connection: incoming, files: huts.csv, where: beds > 4}"],
    ),
    ("into.keys.0", "hut_code", 15, ["  keys: [hut]"], ["  keys: [hut_code]"]),
    ("into.keys", REMOVED, 15, ["  keys: [hut]"], []),
    ("from.files", REMOVED, 4, ["from: {connection: incoming, files: huts.csv}"], ["from: {connection: incoming}"]),
    ("from.connection", REMOVED, 4, ["from: {connection: incoming, files: huts.csv}"], ["from: {files: huts.csv}"]),
    ("into.rejects", 12, 16, [], ["  rejects: 12"]),
]


@pytest.mark.parametrize(("place", "value", "line", "old", "new"), CASES, ids=lambda value: str(value)[:30])
def test_edits_touch_their_lines_only(place: str, value: Any, line: int, old: list[str], new: list[str]) -> None:
    edit = edit_of(FILE, place, value)
    assert edit is not None
    assert (edit.line, list(edit.old), list(edit.new)) == (line, old, new)


def test_a_file_without_columns_gets_them_before_its_target() -> None:
    text = "ultravect: 1\njob: huts\nfrom: {connection: incoming, files: huts.csv}\ninto:\n  connection: w\n  table: hut\n"
    edit = edit_of(text, "columns.0", Items(["* except (beds)", "beds as places"]))
    assert edit is not None
    assert (edit.line, edit.old) == (4, ())
    assert list(edit.new) == ["columns:", "  - '* except (beds)'", "  - beds as places"]


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("ultravect: 1\nfrom:\n  query: |\n    select 1\n    from hut\n", "from.query"),  # more than one line
        ("a: &shared {x: 1}\nb: *shared\n", "b.x"),  # changes another place too
        ("not: [yaml", "not"),
        ("parameters: {season: 2026}\n", "parameters.season.first"),
    ],
)
def test_no_edit_where_none_is_sure(text: str, place: str) -> None:
    assert edit_of(text, place, "x") is None


_WORDS = st.text(st.characters(min_codepoint=32, max_codepoint=0x2FF, exclude_characters="\x7f\x85\xa0"), max_size=12)


@settings(max_examples=60)
@given(columns=st.lists(_WORDS, min_size=1, max_size=4), value=_WORDS, data=st.data())
def test_an_edited_file_reads_back_with_the_value_changed(
    columns: list[str], value: str, data: st.DataObject
) -> None:
    place = data.draw(st.sampled_from(range(len(columns))))
    structure = {"ultravect": 1, "columns": columns, "into": {"table": "hut"}}
    text = write_file(structure)
    edit = edit_of(text, f"columns.{place}", value)
    assert edit is not None
    lines = text.splitlines()
    lines[edit.line - 1 : edit.line - 1 + len(edit.old)] = edit.new
    expected = copy.deepcopy(structure)
    expected["columns"][place] = value  # type: ignore[index]
    assert read_documents("\n".join(lines) + "\n")[0].data == expected


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("job: huts   # reference data", "jobb: huts   # reference data"),
        ("from: {connection: incoming, files: huts.csv}", "from: {conection: incoming, files: huts.csv}"),
        ("  keys: [hut]", "  kees: [hut]"),
        ("  mode: append", "  mode: apend"),
    ],
)
def test_misspelt_keys_and_words_are_put_right(old: str, new: str) -> None:
    broken = FILE.replace(old, new)
    with pytest.raises(DeclarationError) as caught:
        JOB.read_text(broken)
    assert len(caught.value.problems) == 1
    edits = [edit.edit for edit in with_edits(caught.value.problems, broken) if edit.edit]
    assert [(list(edit.old), list(edit.new)) for edit in edits] == [([new], [old])]
    lines = broken.splitlines()
    lines[edits[0].line - 1] = edits[0].new[0]
    JOB.read_text("\n".join(lines))


def test_a_key_that_is_there_already_is_not_written_twice() -> None:
    assert edit_of("into:\n  mode: append\n  mod: overwrite\n", "into.mod", Renamed("mode")) is None
