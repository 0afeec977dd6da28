"""Folders: what is listed, what can be opened, and that nothing outside is."""

from __future__ import annotations

from pathlib import Path

import pytest

from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import FolderSettings
from ultravect.core.storage.folder import FolderStorage


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
    found = storage(root / "files", root).list("", 100)
    assert [(info.path, info.size) for info in found] == [
        ("a.csv", 2),
        ("b.csv", 1),
        ("near.csv", 2),
        ("deep/er/c ä.csv", 1),
    ]
    assert all(info.modified.tzinfo is not None for info in found)


@pytest.mark.parametrize(
    ("search", "limit", "count"), [("CSV", 100, 4), ("deep/", 100, 1), ("nothing", 100, 0), ("", 2, 2)]
)
def test_search_and_limit(search: str, limit: int, count: int, root: Path) -> None:
    assert len(storage(root / "files", root).list(search, limit)) == count


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
        ("*.csv", "pattern-not-supported", "name one file"),
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
    if code is None:
        assert tested.probe()[1].endswith("in it")
        return
    with pytest.raises(UltravectError) as raised:
        tested.probe()
    assert raised.value.code == code


def test_without_roots_nothing_is_allowed(root: Path) -> None:
    with pytest.raises(UltravectError, match="outside the folders") as raised:
        FolderStorage("x", FolderSettings(path=str(root)), []).probe()
    assert "none" in raised.value.hint
