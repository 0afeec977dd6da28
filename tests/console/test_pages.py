"""Every page in four sizes and both themes, with long names and lists of any length: whole, and usable by everyone."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from devtools.browser import chromium
from devtools.stack import Stack
from playwright.sync_api import Page, Route, expect
from tests.conftest import Place
from tests.console.test_console import sign_in

from ultravect.client import Client

SIZES = [(1280, 800), (1600, 1000), (768, 900), (420, 800)]
THEMES = ["day", "night"]
AXE = (Path(__file__).parent.parent.parent / "console" / "node_modules" / "axe-core" / "axe.min.js").read_text(
    "utf-8"
)
_AXE = """
async () => {
  const found = await axe.run(document, { resultTypes: ['violations'] });
  return found.violations.filter((one) => ['serious', 'critical'].includes(one.impact)).map((one) =>
    `${one.id}: ${one.help}: ${one.nodes.slice(0, 3).map((node) => node.target.join(' ') + ' ' + (node.any[0]?.message ?? '')).join('; ')}`);
}
"""
# everything that can be done, by the keyboard alone: each stop has to be seen and to be marked
_STOPS = """
() => {
  const stop = document.activeElement;
  if (!stop || stop === document.body) return null;
  const box = stop.getBoundingClientRect();
  const style = getComputedStyle(stop);
  const editor = stop.closest('.cm-editor');
  const marked = style.outlineStyle !== 'none' || style.boxShadow !== 'none' || editor || stop.id === 'page' || stop.type === 'file';
  return { name: `${stop.tagName} ${stop.textContent.trim().slice(0, 30)}`, seen: box.width > 0 && box.height > 0, marked: !!marked };
}
"""
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
        "a job with a history": f"jobs/{planned}?drawer=runs",
        "jobs": "jobs",
        "a job": f"jobs/{name}",
        "a job's rows": f"jobs/{name}?drawer=rows",
        "how a job runs": f"jobs/{planned}?drawer=how",
        "a job's revisions": f"jobs/{name}?drawer=revisions",
        "no such job": "jobs/there-is-none",
        "a new job": f"new-job?from={connection}",
        "runs": "runs",
        "a run": f"runs/{done.id}",
        "a failed run": f"runs/{failed.id}",
        "connections": "connections",
        "a new connection": "new-connection",
        "a database": f"connections/{connection}",
        "a folder": "connections/incoming",
        "a table looked at": f"connections/{connection}/look/{table}?counts=1",
        "a file looked at": f"connections/incoming/look/{place.name}.csv?bytes=1",
        "the map": "map",
        "a column on the map": f"map?object={quote(f'warehouse:{table}_copy')}&column=id",
        "asking": f"ask/{connection}?sql=select%201",
        "layouts": "layouts",
        "feeds": "feeds",
        "access": "access",
        "messages": "messages",
    }


_NAMES = [
    "streams", "a stream", "today", "schedules", "a job with a history", "jobs", "a job", "a job's rows", "how a job runs",
    "a job's revisions", "no such job", "a new job", "runs", "a run", "a failed run", "connections", "a new connection", "a database",
    "a folder", "a table looked at", "a file looked at", "the map", "a column on the map", "asking", "layouts", "feeds", "access", "messages",
]  # fmt: skip


@pytest.fixture(scope="module")
def page(stack: Stack) -> Iterator[Page]:
    with chromium() as browser:
        page = browser.new_context(viewport={"width": 1280, "height": 800}, reduced_motion="reduce").new_page()
        sign_in(page, stack)
        yield page


def _faults(page: Page) -> list[str]:
    """What is wrong with the page that is open, in each size and both themes."""
    faults: list[str] = []
    page.evaluate(AXE)
    page.add_style_tag(content="* { transition: none !important }")
    for width, height in SIZES:
        page.set_viewport_size({"width": width, "height": height})
        page.wait_for_timeout(150)  # until pictures have the new width
        for theme in THEMES:
            page.evaluate("theme => (document.documentElement.dataset.theme = theme)", theme)
            at = f"at {width} by {theme}: "
            if theme == THEMES[0]:
                faults += [at + fault for fault in page.evaluate(_FAULTS)]
            if width in (SIZES[0][0], SIZES[-1][0]):
                faults += [at + fault for fault in page.evaluate(_AXE)]
    page.set_viewport_size({"width": 1280, "height": 800})
    return faults


def _narrow(page: Page) -> list[str]:
    """What is wrong with the arrangement of a long list: in the widest and in the narrowest window."""
    faults: list[str] = []
    for width, height in (SIZES[0], SIZES[-1]):
        page.set_viewport_size({"width": width, "height": height})
        page.wait_for_timeout(100)
        faults += page.evaluate(_FAULTS)
    page.set_viewport_size({"width": SIZES[0][0], "height": SIZES[0][1]})
    return faults


@pytest.mark.parametrize("name", _NAMES)
def test_a_page_is_whole(name: str, page: Page, addresses: dict[str, str], stack: Stack) -> None:
    page.goto("about:blank")
    page.goto(f"{stack.url}/{addresses[name]}")
    page.get_by_role("main").wait_for()
    page.evaluate(_FILLED)
    if name == "a database":
        expect(page.get_by_role("link", name="accommodation").first).to_be_visible()
    assert page.title() != "Ultravect" or name == "no such job"
    faults = _faults(page)
    assert faults == [], "\n".join(faults)


@pytest.mark.parametrize("name", ["today", "jobs", "a job", "a run", "a database", "asking", "the map"])
def test_all_of_a_page_is_reached_by_the_keyboard(
    name: str, page: Page, addresses: dict[str, str], stack: Stack
) -> None:
    page.goto("about:blank")
    page.goto(f"{stack.url}/{addresses[name]}")
    page.get_by_role("main").wait_for()
    page.evaluate(_FILLED)
    wanted = page.locator("main a[href]:visible, main button:visible:enabled").count()
    seen = 0
    for _ in range(400):
        page.keyboard.press("Tab")
        stop = page.evaluate(_STOPS)
        if stop is None:
            break
        assert (stop["seen"], stop["marked"]) == (True, True), f"the focus is not seen: {stop['name']}"
        seen += 1
        if page.evaluate("document.activeElement.closest('.cm-editor') !== null"):
            page.keyboard.press("Escape")  # in an editor, Tab is a letter unless this comes before
    assert seen >= min(wanted, 30), f"{seen} stops, and {wanted} things to be done"


@pytest.mark.parametrize("count", [0, 1, 1000])
@pytest.mark.parametrize(
    "name", ["jobs", "runs", "connections", "schedules", "streams", "layouts", "feeds", "messages"]
)
def test_a_list_of_any_length_is_whole(
    name: str, count: int, page: Page, addresses: dict[str, str], stack: Stack
) -> None:
    """The service's own first entry, as often as there are to be."""
    asked = {"messages": "notify"}.get(name, name)

    def answer(route: Route) -> None:
        if f"/{asked}?" not in route.request.url and not route.request.url.endswith(f"/{asked}"):
            return route.continue_()
        given = route.fetch()
        body = given.json()
        if not body["items"] and count:
            return route.fulfill(response=given)
        first = body["items"][0] if count else {}
        unique = "name" if "name" in first else "job" if "job" in first and "id" not in first else "id"
        items = [
            {**first, unique: f"{first[unique]}-{n}" if isinstance(first[unique], str) else n + 1}
            for n in range(min(count, 100))
        ]
        return route.fulfill(
            response=given, json={**body, "items": items, "total": count, "pages": max(1, count // 100)}
        )

    page.goto("about:blank")
    page.route("**/api/v1/**", answer)
    try:
        page.goto(f"{stack.url}/{name}")
        page.get_by_role("main").wait_for()
        page.evaluate(_FILLED)
        if not count:
            # it says what to do
            expect(
                page.get_by_role("main").get_by_text(re.compile(r"\b(yet|nothing)\b", re.IGNORECASE)).first
            ).to_be_visible()
        faults = _faults(page) if count == 0 else _narrow(page)
        assert faults == [], "\n".join(faults)
    finally:
        page.unroute("**/api/v1/**")


def test_what_is_slow_or_away_is_said(page: Page, stack: Stack) -> None:
    """A grey shape while it loads, an error with a way on when it cannot, and the list once it can."""
    page.goto("about:blank")
    held: list[Route] = []
    page.route("**/api/v1/runs?*", lambda route: held.append(route))
    page.goto(f"{stack.url}/runs")
    expect(page.get_by_role("status", name="loading")).to_be_visible()
    while not held:
        page.wait_for_timeout(50)
    held[0].abort()
    expect(page.get_by_role("alert")).to_contain_text("The service does not answer")
    page.unroute("**/api/v1/runs?*")
    page.get_by_role("button", name="Try again").click()
    expect(page.get_by_role("row").nth(1)).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)


def test_an_old_answer_never_replaces_a_newer_one(page: Page, stack: Stack) -> None:
    page.goto("about:blank")
    page.goto(f"{stack.url}/runs")
    expect(page.get_by_role("row").nth(1)).to_be_visible()
    held: list[Route] = []
    page.route("**/api/v1/runs?*state=succeeded*", lambda route: held.append(route))
    page.get_by_label("State").select_option("succeeded")
    while not held:
        page.wait_for_timeout(50)
    with page.expect_event("requestfailed", lambda request: "state=succeeded" in request.url):
        page.get_by_label("State").select_option("failed")
    expect(page.get_by_role("row").nth(1)).to_contain_text("failed")
    page.unroute("**/api/v1/runs?*state=succeeded*")


def test_everything_is_reached_from_one_field(page: Page, addresses: dict[str, str], stack: Stack) -> None:
    page.goto(f"{stack.url}/today")
    page.get_by_role("heading", name="Today").wait_for()
    page.keyboard.press("Control+k")
    box = page.get_by_role("combobox", name="Go to")
    expect(box).to_be_focused()
    box.fill("schedu")
    expect(page.get_by_role("dialog").get_by_role("option").first).to_contain_text("Schedules")
    page.keyboard.press("Enter")
    expect(page).to_have_url(f"{stack.url}/schedules")
    number = addresses["a failed run"].removeprefix("runs/")
    for typed, wanted in ((number, addresses["a failed run"]), (LONG[:20], addresses["a job"])):
        page.keyboard.press("Control+k")
        box.fill(typed)
        option = page.get_by_role("dialog").get_by_role("option").filter(has_text=wanted.partition("/")[2])
        expect(option.first).to_be_visible()
        while option.first.get_attribute("aria-selected") != "true":
            page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        expect(page).to_have_url(f"{stack.url}/{wanted}")
    # addresses of earlier versions lead to the new ones
    page.goto("about:blank")
    page.goto(f"{stack.url}/#/{addresses['a failed run']}")
    expect(page).to_have_url(f"{stack.url}/{addresses['a failed run']}")


def test_fifty_thousand_events_stay_smooth(page: Page, addresses: dict[str, str], stack: Stack) -> None:
    """Only what is in view is in the page, however much was said."""
    page.goto("about:blank")
    lines = [
        {
            "id": n,
            "leg": 1,
            "kind": "log",
            "at": "2026-12-01T02:00:00Z",
            "data": {"level": "info", "text": f"line {n}"},
        }
        for n in range(50_000)
    ]
    body = "".join(f"event: log\ndata: {json.dumps(line)}\n\n" for line in lines) + "event: end\ndata: {}\n\n"
    page.route("**/events", lambda route: route.fulfill(content_type="text/event-stream", body=body))
    page.goto(f"{stack.url}/{addresses['a run']}")
    log = page.get_by_test_id("log")
    expect(log.get_by_role("button", name="info 50,000")).to_be_visible()
    assert log.get_by_role("row").count() < 100
    log.get_by_label("search the log").fill("line 49999")
    expect(log.get_by_text("line 49999")).to_be_visible()
    page.unroute("**/events")


def test_an_unknown_job_has_nothing_to_run(page: Page, stack: Stack) -> None:
    page.goto(f"{stack.url}/jobs/there-is-none")
    expect(page.get_by_role("alert")).to_contain_text("there is no job 'there-is-none'")
    assert page.get_by_role("button", name="Run").count() == 0


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
