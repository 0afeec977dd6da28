"""A browser, and a page of someone who is signed in."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from devtools.browser import chromium
from devtools.stack import USER, Stack
from playwright.sync_api import Browser, Page


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with chromium() as opened:
        yield opened


def sign_in(page: Page, stack: Stack, user: str = USER) -> None:
    page.goto(stack.url)
    page.get_by_label("User").fill(user)
    page.get_by_label("Password").fill(stack.password)
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Today", exact=True).wait_for()
    page.goto(f"{stack.url}/jobs")
    page.get_by_role("heading", name="Jobs", exact=True).wait_for()


@pytest.fixture(scope="module")
def signed_in(browser: Browser, stack: Stack) -> Any:
    """What a browser keeps of someone who has signed in: once for all tests of a file."""
    context = browser.new_context()
    page = context.new_page()
    page.set_default_timeout(90_000)
    sign_in(page, stack)
    kept = context.storage_state()
    context.close()
    return kept


@pytest.fixture
def page(browser: Browser, stack: Stack, signed_in: Any) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, storage_state=signed_in)
    opened = context.new_page()
    opened.set_default_timeout(90_000)  # of a machine that tests two things at once
    problems: list[str] = []
    opened.on("pageerror", lambda error: problems.append(str(error)))
    opened.goto(f"{stack.url}/jobs")
    opened.get_by_role("heading", name="Jobs", exact=True).wait_for()
    yield opened
    context.close()
    assert problems == []
