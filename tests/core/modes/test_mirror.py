"""Files are copied as they are: bytes and tree unchanged, equal ones left alone, others never overwritten unless asked."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from tests.core.modes.exports import Export

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.look.rehearse import rehearse
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import DeclarationError, job_from_data

FILES = {
    "slips/2026/june.txt": b"0000120018",
    "slips/2026/july.txt": os.urandom(1_200_000),
    "slips/pictures/hütte 1.png": b"\x89PNG\r\n\x1a\n\0",
    "slips/empty.csv": b"",
    "other/not-copied.txt": b"x",
}


class Copier:
    def __init__(self, target: ConnectionSpec, folder: Path) -> None:
        self.target, self.folder = target, folder
        self.source = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        for path, content in FILES.items():
            self.write(path, content)

    def write(self, path: str, content: bytes) -> None:
        (self.folder / path).parent.mkdir(parents=True, exist_ok=True)
        (self.folder / path).write_bytes(content)

    def job(self, **into: Any) -> Any:
        files = into.pop("files", "slips/**")
        into = {"connection": "exports", "folder": "mirror/{season}", **into}
        start = {"ultravect": 1, "job": "mirror", "parameters": {"season": 2026}}
        return job_from_data({**start, "from": {"connection": "incoming", "files": files}, "into": into})

    def run(self, **into: Any) -> LegResult:
        self.heard = Copied()
        return run_leg(self.job(**into), self.source, self.target, self.heard)

    def found(self) -> dict[str, str]:
        storage = storage_of(self.target)
        held = {}
        for info in storage.list(Listing(pattern="mirror/**", limit=100)):
            with storage.open(info.path).stream as stream:
                held[info.path] = hashlib.sha256(stream.read()).hexdigest()
        return held

    def wanted(self) -> dict[str, str]:
        return {
            f"mirror/2026/{path.relative_to(self.folder / 'slips')}": hashlib.sha256(path.read_bytes()).hexdigest()
            for path in (self.folder / "slips").rglob("*")
            if path.is_file()
        }


@pytest.fixture
def copier(export: Export) -> Copier:
    return Copier(export.target, export.folder)


def counts(result: LegResult) -> dict[str, int]:
    return {name: count for name, count in result.tally.as_dict().items() if count}


def test_a_tree_is_copied_and_only_what_is_new_the_next_time(copier: Copier) -> None:
    check = check_job(copier.job(), copier.source, copier.target)
    assert check.passed
    assert "4 files as they are, 1,200,0" in check.effect
    assert "into mirror/2026: 4 new" in check.effect
    assert counts(copier.run()) == {"read": 4, "inserted": 4}
    assert copier.found() == copier.wanted()
    copier.write("slips/2026/august.txt", b"0000130011")
    assert counts(copier.run()) == {"read": 5, "inserted": 1, "unchanged": 4}
    assert copier.found() == copier.wanted()


def test_a_file_with_other_bytes_is_a_reject_or_replaced(copier: Copier) -> None:
    copier.run()
    before = copier.found()
    copier.write("slips/2026/june.txt", b"0000120019")  # of the same size
    copier.write("slips/2026/august.txt", b"new")
    with pytest.raises(UltravectError, match="is there already with other bytes"):
        copier.run()
    assert copier.found() == before  # nothing was copied
    assert counts(copier.run(rejects=1)) == {"read": 5, "inserted": 1, "unchanged": 3, "rejected": 1}
    os.remove(copier.folder / "slips/empty.csv")
    assert counts(copier.run(mode="overwrite")) == {"read": 4, "updated": 1, "unchanged": 3}
    # what is no longer among the files is removed; what others put there is not touched
    assert copier.found() == copier.wanted()


@pytest.mark.parametrize(
    ("changed", "part"),
    [
        ({"mode": "upsert", "keys": ["a"]}, "files have no keys"),
        ({"table": "t"}, "into names one of table, files and folder"),
        ({"layout": {"format": "jsonl"}}, "no into.layout"),
        ({"keep_previous": 1, "mode": "overwrite"}, "are for tables"),
    ],
)
def test_settings_that_make_no_sense(copier: Copier, changed: dict[str, Any], part: str) -> None:
    with pytest.raises(DeclarationError, match=part):
        copier.job(**changed)


def test_what_is_not_there_or_cannot_be_rehearsed_is_reported(copier: Copier) -> None:
    check = check_job(copier.job(files="nothing/**"), copier.source, copier.target)
    assert [finding.code for finding in check.findings] == ["file-missing"]
    with pytest.raises(UltravectError, match="no rows to try"):
        rehearse(copier.job(), copier.source, copier.target)
