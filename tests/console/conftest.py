"""A browser, and a page of someone who is signed in."""

from __future__ import annotations

from collections.abc import Iterator

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
    page.goto(f"{stack.url}/#/jobs")
    page.get_by_role("heading", name="Jobs", exact=True).wait_for()


@pytest.fixture
def page(browser: Browser, stack: Stack) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    opened.set_default_timeout(90_000)  # of a machine that tests two things at once
    problems: list[str] = []
    opened.on("pageerror", lambda error: problems.append(str(error)))
    sign_in(opened, stack)
    yield opened
    context.close()
    assert problems == []
