"""Debian's Chromium, headless, for tests and pictures."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Browser, sync_playwright

_QUIET = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


@contextmanager
def chromium() -> Iterator[Browser]:
    """A browser for as long as the context lasts."""
    path = shutil.which("chromium")
    if path is None:
        raise RuntimeError("Chromium is not installed: apt-get install chromium")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=path, args=_QUIET)
        try:
            yield browser
        finally:
            browser.close()
