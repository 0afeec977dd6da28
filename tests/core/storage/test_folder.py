"""Folders: what is listed, what can be opened, and that nothing outside is."""

from __future__ import annotations

import uuid
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.contracts.probe import run_steps
from ultravect.core.contracts.storage import Listing
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.folder.kind import FolderSettings
from ultravect.core.kinds.folder.storage import FolderStorage


@pytest.fixture
def root(tmp_path: Path) -> Path:
    inside = tmp_path / "root" / "files"
    (inside / "deep" / "er").mkdir(parents=True)
    (inside / "b.csv").write_text("b")
    (inside / "a.csv").write_text("aa")
    (inside / "deep" / "er" / "c ä.csv").write_text("c")
    (inside / ".hidden").write_text("h")
    (inside / "deep" / ".git").mkdir()
    (inside / "deep" / ".git" / "config").write_text("x")
    (tmp_path / "secret.csv").write_text("s")
    (inside / "out.csv").symlink_to(tmp_path / "secret.csv")
    (inside / "near.csv").symlink_to(inside / "a.csv")
    (inside / "loop").symlink_to(inside / "loop")
    (inside / "up").symlink_to(tmp_path)
    return tmp_path / "root"


def storage(path: Path | str, root: Path) -> FolderStorage:
    return FolderStorage("incoming", FolderSettings(path=str(path)), [str(root)])


def test_lists_what_is_inside(root: Path) -> None:
    found = storage(root / "files", root).list(Listing(limit=100))
    assert [(info.path, info.size) for info in found] == [
        ("a.csv", 2),
        ("b.csv", 1),
        ("deep/er/c ä.csv", 1),
        ("near.csv", 2),
    ]
    assert all(info.modified and info.modified.tzinfo is not None for info in found)


@pytest.mark.parametrize(
    ("search", "limit", "count"), [("CSV", 100, 4), ("deep/", 100, 1), ("nothing", 100, 0), ("", 2, 2)]
)
def test_search_and_limit(search: str, limit: int, count: int, root: Path) -> None:
    assert len(storage(root / "files", root).list(Listing(search, limit=limit))) == count


@pytest.mark.parametrize(
    ("pattern", "names"),
    [
        ("*.csv", ["a.csv", "b.csv", "near.csv"]),
        ("**/*.csv", ["a.csv", "b.csv", "deep/er/c ä.csv", "near.csv"]),
        ("deep/**", ["deep/er/c ä.csv"]),
        ("deep/*", []),
        ("[ab].csv", ["a.csv", "b.csv"]),
        ("[!a].csv", ["b.csv"]),
        ("?.csv", ["a.csv", "b.csv"]),
        ("de*/*/c?ä.*", ["deep/er/c ä.csv"]),
        ("a.csv", ["a.csv"]),
        ("a(csv", []),
    ],
)
def test_patterns(pattern: str, names: list[str], root: Path) -> None:
    assert [info.path for info in storage(root / "files", root).list(Listing(pattern=pattern))] == names


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(names=st.sets(st.text(alphabet="ab./-0", min_size=1, max_size=6), max_size=12), size=st.integers(1, 4))
def test_pages_give_every_file_once_in_order(names: set[str], size: int, tmp_path: Path) -> None:
    place = tmp_path / uuid.uuid4().hex
    place.mkdir()
    for name in names:
        path = place / name.strip("/").replace("//", "/")
        with suppress(OSError):
            if place in path.resolve().parents and not any(
                part.startswith(".") for part in path.relative_to(place).parts
            ):
                path.parent.mkdir(parents=True, exist_ok=True)
                path.touch()
    whole = [info.path for info in storage(place, tmp_path).list(Listing())]
    assert whole == sorted(path.relative_to(place).as_posix() for path in place.rglob("*") if path.is_file())
    paged: list[str] = []
    while page := storage(place, tmp_path).list(Listing(after=paged[-1] if paged else "", limit=size)):
        paged += [info.path for info in page]
    assert paged == whole


def test_opens_and_says_the_size(root: Path) -> None:
    opened = storage(root / "files", root).open("deep/er/c ä.csv")
    with opened.stream as stream:
        assert (opened.info.size, stream.read()) == (1, b"c")


@pytest.mark.parametrize(
    ("path", "code", "hint"),
    [
        ("a.cvs", "file-missing", "did you mean 'a.csv'?"),
        ("zzzzzz", "file-missing", "look at the connection"),
        ("a.csv/b", "file-missing", ""),
        ("deep", "file-is-folder", "name one file in it"),
        ("", "file-is-folder", ""),
        (".", "file-is-folder", ""),
        ("../../secret.csv", "file-outside-folder", "inside it"),
        ("/etc/passwd", "file-outside-folder", "inside it"),
        ("out.csv", "file-outside-folder", "inside it"),
        ("up/secret.csv", "file-outside-folder", "inside it"),
        ("loop", "file-unreadable", "typing errors"),
        ("a\0b", "file-unreadable", "typing errors"),
        ("x" * 5000, "file-unreadable", ""),
    ],
)
def test_what_cannot_be_opened(path: str, code: str, hint: str, root: Path) -> None:
    with pytest.raises(UltravectError) as raised:
        storage(root / "files", root).open(path)
    assert (raised.value.code in (code, "file-missing"), hint in raised.value.hint) == (True, True), (
        raised.value.as_dict()
    )
    assert raised.value.where["connection"] == "incoming"


@pytest.mark.parametrize(
    ("path", "code"),
    [
        ("{root}/files", None),
        ("{root}", None),
        ("{root}/files/../files", None),
        ("{root}/..", "folder-outside-roots"),
        ("{root}x", "folder-outside-roots"),
        ("/", "folder-outside-roots"),
        ("{root}/files/up", "folder-outside-roots"),
        ("{root}/none", "folder-missing"),
        ("{root}/files/a.csv", "folder-missing"),
        ("files", "folder-not-absolute"),
    ],
)
def test_roots(path: str, code: str | None, root: Path) -> None:
    tested = storage(path.replace("{root}", str(root)), root)
    result = run_steps(tested.steps())
    assert (result.error and result.error.code) == code
    states = [step.state for step in result.steps]
    assert states == (["passed"] * 3 if code is None else ["failed", "not reached", "not reached"])


def test_without_roots_nothing_is_allowed(root: Path) -> None:
    error = run_steps(FolderStorage("x", FolderSettings(path=str(root)), []).steps()).error
    assert error is not None
    assert "none" in error.hint


def test_writing_is_tried_where_it_is_asked_for(root: Path) -> None:
    tested = storage(root / "files", root)
    before = sorted(root.rglob("*"))
    assert run_steps(tested.write_steps()).error is None
    assert sorted(root.rglob("*")) == before
