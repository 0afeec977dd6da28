"""Takes the pictures of docs/screenshots from the demo data: pages of the console, and output of the command line."""

from __future__ import annotations

import io
import os
import pty
import re
import subprocess
import sys
from pathlib import Path

from demo.load import run_all
from playwright.sync_api import Browser, Page
from rich.console import Console
from rich.terminal_theme import TerminalTheme
from rich.text import Text

from devtools.browser import chromium
from devtools.clock import SetClock
from devtools.demo_nights import live_nights
from devtools.places import Places
from devtools.stack import USER, Stack
from ultravect.client import Client

ROOT = Path(__file__).resolve().parent.parent
_SIZE = {"width": 1280, "height": 800}
_NIGHT = TerminalTheme(
    (35, 32, 28),
    (226, 221, 212),
    [
        (60, 56, 50),
        (226, 112, 92),
        (122, 186, 132),
        (222, 176, 92),
        (120, 168, 214),
        (196, 140, 180),
        (110, 186, 186),
        (226, 221, 212),
    ],
)
_TERMINAL_PAGE = """<body style="margin:0;background:{background}"><pre style="margin:0;padding:14px 16px;width:1248px;
color:{foreground};background:{background};font:13px/1.45 'DejaVu Sans Mono',monospace">{code}</pre></body>"""


def _prepare(stack: Stack, places: Places, client: Client, clock: SetClock, nights: int) -> None:
    live_nights(stack, places, client, clock, nights)
    run_all(client)
    for _ in range(60):
        places.desk.busy()
    places.another_night()
    client.wait(client.run("booking-ledger").id)
    client.wait(client.run("reservations-raw").id)


def _sign_in(page: Page, stack: Stack) -> None:
    page.goto(stack.url)
    page.fill("#user", USER)
    page.fill("#password", stack.password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Today").wait_for()


def _pages(browser: Browser, stack: Stack, client: Client, folder: Path) -> None:
    page = browser.new_page(viewport=_SIZE, color_scheme="light")
    page.goto(stack.url)
    page.get_by_role("button", name="Sign in").wait_for()
    _sign_in(page, stack)

    def shoot(name: str, address: str, wait: str) -> None:
        page.goto(f"{stack.url}/{address}")
        page.locator(wait).first.wait_for()
        page.wait_for_timeout(400)
        page.screenshot(path=folder / f"{name}.png")

    shoot("today", "today", "main section")
    shoot("schedules", "schedules", "table a")
    shoot("jobs", "jobs", "table a")
    page.goto(f"{stack.url}/jobs/booking-ledger")
    page.locator(".cm-line").first.wait_for()
    page.get_by_role("button", name="Check").click()
    page.get_by_test_id("check").wait_for()
    page.get_by_role("button", name="Rehearse").click()
    page.get_by_test_id("rehearsal").wait_for()
    page.wait_for_timeout(300)
    page.screenshot(path=folder / "job.png")
    page.get_by_test_id("into").evaluate("part => part.scrollIntoView({block: 'start'})")
    page.mouse.wheel(0, -60)
    page.wait_for_timeout(300)
    page.screenshot(path=folder / "job-into.png")
    page.get_by_test_id("rehearsal").scroll_into_view_if_needed()
    page.wait_for_timeout(300)
    page.screenshot(path=folder / "job-rehearsal.png")
    runs = {(run.job, run.state): run.id for run in reversed(client.runs().items)}
    shoot("run", f"runs/{client.runs(job='booking-ledger').items[0].id}", "[data-testid=tally]")
    failed = next(run for run in client.runs(job="guestbook").items if run.state == "failed")
    shoot("run-failed", f"runs/{failed.id}", "[role=alert]")
    shoot("run-rejects", f"runs/{runs['guestbook', 'succeeded']}", "[data-testid=tally]")
    shoot("stream", "streams/stays-live", "[data-testid=minutes]")
    page.goto(f"{stack.url}/connections")
    for name in ("freight", "masts", "reservations"):
        row = page.get_by_role("row").filter(has=page.get_by_role("link", name=name, exact=True))
        row.get_by_role("button", name="Test").click()
        row.get_by_text("can be read").wait_for()
    page.screenshot(path=folder / "connections.png")
    shoot("look", "connections/incoming/look/inspections.xlsx", "td")
    _layouts(page, stack, folder)
    shoot("feed", "feeds/partner-bookings", "[data-testid=days] td")
    page.goto(f"{stack.url}/runs/{client.runs(job='reservations-raw').items[0].id}")
    page.get_by_test_id("legs").get_by_role("button", name="booking").click()
    page.get_by_test_id("leg").wait_for()
    page.wait_for_timeout(400)
    page.screenshot(path=folder / "run-legs.png")
    night = browser.new_page(viewport=_SIZE, color_scheme="dark")
    _sign_in(night, stack)
    client.add_user("hut-keeper", "granite-ridge-at-dawn", "operator")
    client.make_token("nightly copies", role="operator", days=90)
    night.goto(f"{stack.url}/access")
    night.get_by_role("heading", name="Users", exact=True).wait_for()
    night.wait_for_timeout(400)
    night.screenshot(path=folder / "access.png")


def _layouts(page: Page, stack: Stack, folder: Path) -> None:
    """The layout editor: a delimited file with a bad row."""
    bergfrei = stack.files / "agencies" / "bergfrei-2026-07.csv"
    lines = bergfrei.read_bytes().splitlines(keepends=True)
    bergfrei.write_bytes(b"".join([*lines[:9], b"100012;006;05.09.2026\r\n", *lines[9:]]))
    for name, address in (("layout", "agencies%2Fbergfrei-2026-07.csv"),):
        page.goto(f"{stack.url}/connections/incoming/look/{address}")
        page.get_by_role("button", name="Edit the layout").click()
        page.get_by_label("Parsed rows").locator("td").first.wait_for()
        page.wait_for_timeout(900)
        page.screenshot(path=folder / f"{name}.png")


def terminal_output(command: list[str], environment: dict[str, str], columns: int = 132) -> str:
    """What a command prints into a terminal, with its escape codes."""
    main, other = pty.openpty()
    variables = os.environ | environment | {"COLUMNS": str(columns), "LINES": "60", "TERM": "xterm-256color"}
    process = subprocess.Popen(command, stdout=other, stderr=other, stdin=subprocess.DEVNULL, env=variables)
    os.close(other)
    output = b""
    while True:
        try:
            part = os.read(main, 65536)
        except OSError:
            break
        if not part:
            break
        output += part
    process.wait()
    os.close(main)
    return output.decode("utf-8", "replace")


def _last_screen(output: str) -> str:
    """What stays on the screen: the live picture of a run is wiped away when it ends."""
    shown = output.replace("\r\n", "\n").split("\x1b[?25h")[-1]
    return re.sub(r"^(?:\r|\n|\x1b\[(?:2K|1A))+", "", shown)


def _terminal(browser: Browser, stack: Stack, folder: Path) -> None:
    program = str(Path(sys.executable).parent / "ultravect")
    environment = {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token}
    commands = {
        "cli-look": [["look", "incoming", "bookings.csv", "--rows", "5"]],
        "cli-check": [["check", "guestbook"]],
        "cli-run": [
            ["jobs"],
            ["run", "booking-ledger"],
            [
                "ask",
                "warehouse",
                "select run, loaded_at, account from ultravect_receipt where account like '%upsert%'",
            ],
        ],
    }
    for name, lines in commands.items():
        console = Console(record=True, width=132, file=io.StringIO(), force_terminal=True)
        for arguments in lines:
            shown = " ".join(f"'{word}'" if " " in word else word for word in arguments)
            console.print(Text(f"$ ultravect {shown}", style="bold"))
            console.print(Text.from_ansi(_last_screen(terminal_output([program, *arguments], environment))))
        page = browser.new_page(viewport=_SIZE)
        page.set_content(console.export_html(theme=_NIGHT, inline_styles=True, code_format=_TERMINAL_PAGE))
        page.locator("pre").screenshot(path=folder / f"{name}.png")


def take(stack: Stack, places: Places, folder: Path) -> None:
    """Writes the pictures into ``folder``."""
    folder.mkdir(parents=True, exist_ok=True)
    with Client(stack.url, token=stack.token) as client, chromium() as browser:
        _prepare(stack, places, client)
        _pages(browser, stack, client, folder)
        _terminal(browser, stack, folder)
    print(f"wrote {len(list(folder.glob('*.png')))} pictures into {folder}")
