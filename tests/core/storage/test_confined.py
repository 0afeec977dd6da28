"""What leads away from a place, however it is written, and what is hidden there."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.http.kind import HttpSettings
from ultravect.core.kinds.http.storage import HttpStorage
from ultravect.core.patterns import matcher


def _code(call: Callable[[], object]) -> str:
    with pytest.raises(UltravectError) as raised:
        call()
    return raised.value.code


@pytest.mark.parametrize(
    "path",
    [
        "../secret", "..%2fsecret", "%2e%2e/secret", "%2e%2e%2fsecret", "a/%252e%252e/%252e%252e/x", "..\\secret", "..%5csecret",
        "http://evil.example.org/data/x", "https://hut.example.org/data/x",
        "http://hut.example.org:8080/data/x", "http://hut.example.org/database/x", "a/../../x", "%2E%2E/x",
    ],
)  # fmt: skip
def test_http_stays_below_its_address(path: str) -> None:
    storage = HttpStorage("web", HttpSettings(url="http://hut.example.org/data"), [])
    assert _code(lambda: storage._address(path)) in ("file-outside-folder", "file-missing")


@pytest.mark.parametrize(
    "path", ["a.csv", "a/b.csv", "a%20b.csv", "a b.csv", "./a.csv", "ä.csv", "a..b.csv", "x?season=2026"]
)
def test_http_reads_what_is_below(path: str) -> None:
    storage = HttpStorage("web", HttpSettings(url="http://hut.example.org/data"), [])
    assert storage._address(path).path.startswith("/data/")


def test_hidden_files_are_neither_read_nor_written(tmp_path: Path) -> None:
    for name in (".env", ".ssh/id", "a/.b/c.csv", "seen.csv"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text("x\n")
    (tmp_path / "link.csv").symlink_to(tmp_path / ".env")
    storage = storage_of(ConnectionSpec("here", "folder", {"path": str(tmp_path)}, [str(tmp_path)]))
    assert [item.path for item in storage.list(Listing())] in (["seen.csv"], ["link.csv", "seen.csv"])
    for name in (".env", ".ssh/id", "a/.b/c.csv", "link.csv", "./.env"):
        assert _code(lambda name=name: storage.open(name)) == "file-hidden"
        assert _code(lambda name=name: storage.put(name, tmp_path / "seen.csv")) == "file-hidden"
        assert _code(lambda name=name: storage.remove(name)) == "file-hidden"
    assert (tmp_path / ".env").read_text() == "x\n"


@pytest.mark.parametrize(
    ("pattern", "path", "fits"),
    [
        ("*.csv", "a.csv", True), ("*.csv", "a/b.csv", False), ("**/*.csv", "a.csv", True), ("**/*.csv", "a/b/c.csv", True),
        ("a/**", "a/b/c", True), ("a/**", "a", False), ("a/**/z", "a/z", True), ("a/**/z", "a/b/c/z", True),
        ("a?c", "abc", True), ("a?c", "a/c", False), ("[a-c]x", "bx", True), ("[!a-c]x", "bx", False), ("[a-c]x", "dx", False),
        ("[", "[", True), ("a[", "a[", True), ("**", "a/b", True), ("*a*b*c", "xxaxxbxxc", True), ("*a*b*c", "xxaxxcxxb", False),
        ("[]]x", "]x", True), ("[a-]x", "-x", True), ("", "", True),
    ],
)  # fmt: skip
def test_patterns(pattern: str, path: str, fits: bool) -> None:
    assert matcher(pattern)(path) is fits


@given(st.text(alphabet="ab*?/", max_size=12), st.text(alphabet="ab/", max_size=12))
def test_a_path_fits_itself_and_what_stands_for_all(pattern: str, path: str) -> None:
    matcher(pattern)(path)
    assert matcher(path)(path)
    if path:
        assert matcher("**")(path)


def test_no_pattern_takes_long() -> None:
    """Compared with itself: twice the length takes some times as long, not its power."""

    def seconds(size: int) -> float:
        fits = matcher("*a" * size + "b")
        started = time.perf_counter()
        for _ in range(5):
            assert not fits("a" * size * 20)
        return time.perf_counter() - started

    short, long = seconds(50), seconds(400)
    assert long < 1_000 * max(short, 0.001)
