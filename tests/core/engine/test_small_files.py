"""Thousands of small files are read as few blocks; what is said of a row names its own file, number and line."""

from __future__ import annotations

import codecs
import random
from pathlib import Path

import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied, Place

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.sources import open_source
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.delimited.reader import DelimitedReader
from ultravect.core.model.document import job_from_data


def test_rows_of_small_files_keep_their_places(places: dict[str, Place], tmp_path: Path) -> None:
    for hut in range(40):
        rows = [f"{hut * 10 + night},{'x' if (hut, night) == (17, 2) else night}" for night in range(hut % 7)]
        (tmp_path / f"hut-{hut:02}.csv").write_text("\n".join(["booking,nights", *rows]) + "\n" * (hut % 2))
    place, heard = places["postgresql"], Copied()
    place.drop("small_files")
    place.sql("CREATE TABLE small_files (booking integer, nights integer, file text, place integer)")
    spec = ConnectionSpec("incoming", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "small",
            "from": {
                "connection": "incoming",
                "files": "hut-*.csv",
                "layout": {"format": "delimited", "delimiter": ",", "header": True},
                "newer": "files",
            },
            "columns": ["*", "file_name() as file", "file_row() as place"],
            "into": {"connection": place.spec.name, "table": "small_files", "rejects": 1},
        }
    )
    result = run_leg(job, spec, place.spec, heard, receipt="small-1")
    wanted = [
        (hut * 10 + night, night, f"hut-{hut:02}.csv", night + 1)
        for hut in range(40)
        for night in range(hut % 7)
        if (hut, night) != (17, 2)
    ]
    assert place.sql("SELECT * FROM small_files ORDER BY 1") == wanted
    assert result.files == {f"hut-{hut:02}.csv": hut % 7 for hut in range(40) if hut % 7}
    assert [(reject.object, reject.row, reject.line) for reject in heard.rejected] == [("hut-17.csv", 3, 4)]
    heard = Copied()
    (tmp_path / "hut-45.csv").write_text("booking,nights\n450,1\n451,x\n")
    (tmp_path / "hut-46.csv").write_text("booking,nights\n460,1\n")
    run_leg(job, spec, place.spec, heard, receipt="small-2")
    assert [(reject.object, reject.row, reject.line) for reject in heard.rejected] == [("hut-45.csv", 2, 3)]
    place.drop("small_files")


_LINES = ["1,a", '2,"x,y"', '3,"q""q"', '4,"a\nb"', "", "5", "6,a,b", '7,"open', "  ", "8,é", '9,a"b', "10,v", "11,w"]
_HEADS = ["id,name"] * 6 + ["id,nam", 'id,"name"', "id,name,x"]


@pytest.mark.parametrize("seed", range(40))
def test_one_look_sees_what_a_closer_look_sees(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    chance = random.Random(seed)
    end = chance.choice(["\n", "\r\n"])
    for number in range(chance.randint(2, 5)):
        lines = [chance.choice(_HEADS), *chance.choices(_LINES, k=chance.randint(0, 4))]
        content = end.join(lines) + chance.choice(["", end, end * 2])
        mark = chance.choice([b"", b"", codecs.BOM_UTF8])
        (tmp_path / f"{number}.csv").write_bytes(mark + content.encode(chance.choice(["utf-8", "utf-8", "latin-1"])))
    found = _read(tmp_path)
    monkeypatch.setattr(DelimitedReader, "small", lambda reader, file: None)
    assert found == _read(tmp_path)


def _read(folder: Path) -> list[object]:
    """Rows and bad rows with their lines, or the error."""
    spec = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
    found: list[object] = []
    try:
        reader = open_source(spec, "*.csv", None)
        for block in reader.blocks():
            rows = reader.read(block)
            found += [
                (block.row_line(int(at)), row) for at, row in zip(rows.index, rows.values.to_pylist(), strict=True)
            ]
            found += [(block.row_line(bad.index), bad.reason, block.row_text(bad.index)) for bad in rows.bad]
    except UltravectError as error:
        return [error.code, error.detail]
    return sorted(found, key=repr)  # good and bad rows of a block come one after the other
