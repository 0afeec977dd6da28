"""Every page at two sizes, with long names: no text is cut, overlaps, wraps letter by letter or scrolls sideways."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from typing import Any

import pytest
from devtools.browser import chromium
from devtools.stack import Stack
from playwright.sync_api import Browser, Page, expect
from tests.conftest import Place
from tests.console.test_console import sign_in

from ultravect.client import Client

SIZES = [(1280, 800), (420, 800)]
LONG = "accommodation-and-catering-revenue-of-all-huts-and-seasons"
# the rectangles in which text is seen, cut by what scrolls around it, and what is wrong with them
_FAULTS = """
() => {
  const faults = [];
  const root = document.documentElement;
  if (root.scrollWidth > root.clientWidth + 1) {
    const wide = [...document.querySelectorAll('main *')].filter((one) => one.getBoundingClientRect().right > root.clientWidth + 1);
    const names = wide.slice(0, 4).map((one) => `${one.tagName} ${one.className} "${one.textContent.trim().slice(0, 30)}"`);
    faults.push(`the page scrolls sideways: ${root.scrollWidth} > ${root.clientWidth}: ${names.join('; ')}`);
  }
  const seen = [];
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  for (let node = walker.nextNode(); node; node = walker.nextNode()) {
    const text = node.data.trim(), owner = node.parentElement;
    if (!text || owner.closest('.cm-editor, option, datalist, script, style, .sr-only')) continue;
    if (owner.closest('details:not([open])') && !owner.closest('summary')) continue;
    const style = getComputedStyle(owner);
    if (style.visibility === 'hidden' || style.display === 'none') continue;
    const range = document.createRange();
    range.selectNodeContents(node);
    const lines = [...range.getClientRects()].filter((one) => one.width > 0.5 && one.height > 0.5);
    if (!lines.length) continue;
    const words = text.split(/\\s+/);
    if (lines.length > 3 && lines.length > words.length && text.length / lines.length < 5) {
      faults.push(`letter by letter: "${text.slice(0, 60)}" on ${lines.length} lines`);
    }
    const titled = owner.closest('[title]');
    for (let around = owner; around && around !== document.body; around = around.parentElement) {
      const how = getComputedStyle(around);
      if (how.overflowX === 'hidden' && around.scrollWidth > around.clientWidth + 1 && !titled) {
        faults.push(`cut: "${text.slice(0, 60)}"`);
        break;
      }
    }
    for (const line of lines) {
      let box = { left: line.left, right: line.right, top: line.top, bottom: line.bottom };
      for (let around = owner; around && around !== document.body; around = around.parentElement) {
        const how = getComputedStyle(around);
        if (how.overflowX === 'visible' && how.overflowY === 'visible') continue;
        const edge = around.getBoundingClientRect();
        box = {
          left: Math.max(box.left, edge.left), right: Math.min(box.right, edge.right),
          top: Math.max(box.top, edge.top), bottom: Math.min(box.bottom, edge.bottom),
        };
      }
      if (box.right - box.left > 1 && box.bottom - box.top > 1) seen.push({ ...box, owner, text });
    }
  }
  for (let first = 0; first < seen.length; first += 1) {
    for (let second = first + 1; second < seen.length; second += 1) {
      const a = seen[first], b = seen[second];
      if (a.owner === b.owner || a.owner.contains(b.owner) || b.owner.contains(a.owner)) continue;
      const wide = Math.min(a.right, b.right) - Math.max(a.left, b.left);
      const high = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
      if (wide > 3 && high > 4) faults.push(`overlap: "${a.text.slice(0, 40)}" and "${b.text.slice(0, 40)}"`);
    }
  }
  return faults;
}
"""
# until nothing has changed in the page for half a second; an event stream of a run never lets the network be idle
_FILLED = """
() => new Promise((filled) => {
  let waiting = setTimeout(filled, 500);
  new MutationObserver(() => { clearTimeout(waiting); waiting = setTimeout(filled, 500); })
    .observe(document.body, { childList: true, subtree: true, characterData: true });
})
"""


@pytest.fixture(scope="module")
def addresses(stack: Stack, client: Client) -> dict[str, str]:
    """One of each page, of things with long names."""
    place = Place(stack, client)
    name = f"{LONG[:50]}-{place.name}"
    table = f"{LONG.replace('-', '_')[:40]}_{place.name}"
    stack.postgres.execute(f"CREATE TABLE {table} ({LONG.replace('-', '_')} integer, b text)", "warehouse")
    stack.postgres.execute(
        f"COMMENT ON TABLE {table} IS 'All that was earned, by hut and season and kind'", "warehouse"
    )
    place.file(f"id,{LONG.replace('-', '_')}\n1,{'long text ' * 20}\nx,2\n")
    into = f"{{connection: warehouse, table: {table}_copy, rejects: 1}}"
    source = f"{{connection: incoming, files: {place.name}.csv}}"
    columns = f"[id integer, {LONG.replace('-', '_')}]"
    client.save_job(
        name, f"ultravect: 1\njob: {name}\nlabels: [finance]\nfrom: {source}\ncolumns: {columns}\ninto: {into}\n"
    )
    done = client.wait(client.run(name).id)
    failing = f"{LONG[:45]}-fails-{place.name}"
    client.save_job(
        failing,
        f"ultravect: 1\njob: {failing}\nfrom: {source}\ncolumns: {columns}\ninto: {into.replace('rejects: 1', 'rejects: 0')}\n",
    )
    # nothing listens there, and all of it is as long as it may be
    hook = f"http://127.0.0.1:9/{'hook' * 20}"
    client.save_notify_rule(LONG[:60].rstrip("-"), ["failed", "recovered", "late", "rejects"], webhook=hook, labels=[LONG[:40], "finance"],
                            quiet=("00:00", "00:01", "America/Argentina/ComodRivadavia"), remind_hours=720)  # fmt: skip
    failed = client.wait(client.run(failing).id)
    planned = f"{LONG[:44]}-planned-{place.name}"
    client.save_job(
        planned,
        f"ultravect: 1\njob: {planned}\nfrom: {source}\ncolumns: {columns}\ninto: {into}\n"
        'run: {schedule: {cron: "*/20 0,12,23 28-31 1,6,12 mon-sat", timezone: America/Argentina/ComodRivadavia}}\n',
    )
    for _ in range(2):
        client.wait(client.run(planned).id)
    client.pause_schedules(planned, "until the accommodation and catering people have counted everything again")
    connection = LONG[:60].rstrip("-")
    if connection not in {item.name for item in client.connections()}:
        client.add_connection(connection, "postgresql", stack.warehouse)
    stack.postgres.execute(f"ALTER TABLE {table} ADD PRIMARY KEY ({LONG.replace('-', '_')})", "warehouse")
    live = f"{LONG[:44]}-live-{place.name}"
    client.save_job(
        live,
        f"ultravect: 1\njob: {live}\nfrom: {{connection: {connection}, table: {table}, newer: log}}\n"
        f"into: {{connection: warehouse, table: {table}_followed, mode: upsert, keys: primary}}\nrun: {{follow: 200 ms}}\n",
    )
    client.start_stream(live)
    while client.stream(live).state != "following":
        threading.Event().wait(0.1)
    stack.postgres.execute(
        f"INSERT INTO {table} SELECT g, '{'long text ' * 20}' FROM generate_series(1, 123456) g", "warehouse"
    )
    stack.postgres.execute(f"ALTER TABLE {table} ADD everything_else_that_was_earned numeric(38, 10)", "warehouse")
    stack.postgres.execute(f"DELETE FROM {table} WHERE {LONG.replace('-', '_')} = 5", "warehouse")
    while client.stream(live).state == "following":
        threading.Event().wait(0.1)
    return {
        "streams": "streams",
        "a stream": f"streams/{live}",
        "today": "today",
        "schedules": "schedules",
        "a job with a history": f"jobs/{planned}",
        "jobs": "jobs",
        "a job": f"jobs/{name}",
        "no such job": "jobs/there-is-none",
        "a new job": "new-job",
        "runs": "runs",
        "a run": f"runs/{done.id}",
        "a failed run": f"runs/{failed.id}",
        "connections": "connections",
        "a new connection": "connections/new",
        "a database": f"connections/{connection}",
        "a folder": "connections/incoming",
        "a table looked at": f"connections/{connection}/look/{table}",
        "layouts": "layouts",
        "access": "access",
        "messages": "messages",
    }


@pytest.fixture(scope="module", params=SIZES, ids=["wide", "narrow"])
def page(request: pytest.FixtureRequest, stack: Stack) -> Iterator[Page]:
    with chromium() as browser:
        opened = _opened(browser, request.param, stack)
        yield opened


def _opened(browser: Browser, size: tuple[int, int], stack: Stack) -> Page:
    page = browser.new_context(viewport={"width": size[0], "height": size[1]}).new_page()
    sign_in(page, stack)
    return page


@pytest.mark.parametrize(
    "name",
    [
        "today", "schedules", "a job with a history", "jobs", "a job", "no such job", "a new job", "runs", "a run", "a failed run", "connections",
        "a new connection",
        "a database", "a folder", "a table looked at", "layouts", "access", "messages", "streams", "a stream",
    ],
)  # fmt: skip
def test_a_page_is_whole(name: str, page: Page, addresses: dict[str, str], stack: Stack) -> None:
    page.goto("about:blank")
    page.goto(f"{stack.url}/{addresses[name]}")
    page.get_by_role("main").wait_for()
    page.evaluate(_FILLED)
    if name == "a database":
        expect(page.get_by_role("link", name="accommodation").first).to_be_visible()
    faults: Any = page.evaluate(_FAULTS)
    assert faults == [], "\n".join(faults)


def test_an_unknown_job_has_nothing_to_run(page: Page, stack: Stack) -> None:
    page.goto(f"{stack.url}/jobs/there-is-none")
    expect(page.get_by_role("alert")).to_contain_text("there is no job 'there-is-none'")
    assert (
        page.get_by_role("button", name="Run").count() == 0 or not page.get_by_role("button", name="Run").is_visible()
    )


@pytest.mark.parametrize(
    ("style", "fault"),
    [
        ("main a { display: block; width: 1ch; overflow-wrap: anywhere }", "letter by letter"),
        ("main .panel { position: absolute; top: 60px; left: 20px }", "overlap"),
        ("main td { max-width: 2ch; overflow: hidden; display: block; white-space: nowrap }", "cut"),
        ("main { min-width: 3000px }", "sideways"),
    ],
)
def test_the_look_for_faults_finds_them(
    style: str, fault: str, page: Page, addresses: dict[str, str], stack: Stack
) -> None:
    page.goto(f"{stack.url}/connections/incoming")
    page.get_by_role("link", name=".csv").first.wait_for()
    tag = page.add_style_tag(content=style)
    found: Any = page.evaluate(_FAULTS)
    tag.evaluate("one => one.remove()")
    assert any(fault in item for item in found), found
