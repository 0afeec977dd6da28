"""Takes the pictures of docs/screenshots from the demo data: pages of the console, and output of the command line."""

from __future__ import annotations

import io
import os
import pty
import re
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from demo.load import run_all
from playwright.sync_api import Browser, Page, ViewportSize
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
_SIZE: ViewportSize = {"width": 1280, "height": 800}
_ZONE = "Europe/Zurich"
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
    page = browser.new_page(viewport=_SIZE, color_scheme="light", timezone_id=_ZONE)
    _sign_in(page, stack)

    def shoot(name: str, address: str, wait: str, act: Callable[[], None] = lambda: None) -> None:
        page.goto(f"{stack.url}/{address}")
        page.locator(wait).first.wait_for()
        act()
        page.wait_for_timeout(900)
        page.screenshot(path=folder / f"{name}.png")

    runs = {(run.job, run.state): run.id for run in reversed(list(client.runs()))}
    shoot("today", "today", "main ol li")
    shoot("schedules", "schedules", "table a")
    shoot("jobs", "jobs", "table a")
    passed = "[role=status]:has-text('✓ passed')"
    shoot("job", "jobs/booking-ledger", passed)

    def rehearse() -> None:
        page.get_by_role("button", name="Rehearse").click()
        page.get_by_test_id("rehearsal").wait_for()

    shoot("job-rows", "jobs/booking-ledger", passed, rehearse)
    shoot("job-how", "jobs/booking-ledger?drawer=how", passed)
    shoot(
        "new-job",
        "new-job?from=reservations",
        "input[aria-label=guest]",
        lambda: page.get_by_label("guest", exact=True).check(),
    )
    shoot("map", "map", "main svg text")
    shoot("map-column", "map?object=warehouse:ledger_booking&column=total", "section[aria-label='The column'] li")
    shoot("run", f"runs/{client.runs(job='booking-ledger').items[0].id}", "[data-testid=tally]")

    def help_rejects() -> None:
        page.get_by_role("button", name="What would take them?").click()
        page.get_by_test_id("edits").wait_for()

    shoot("run-rejects", f"runs/{runs['guestbook', 'failed']}", "mark", help_rejects)
    shoot("stream", "streams/stays-live", "[data-testid=minutes]")
    shoot("connection", "connections/incoming", "table td a")
    shoot("profile", "connections/warehouse/look/ledger_booking?counts=1", "[role=img]")

    def ask() -> None:
        page.get_by_role("textbox", name="SQL").click()
        page.keyboard.insert_text(
            "select arrival, count(*) as bookings, sum(nights) as nights\nfrom ledger_booking group by arrival order by arrival"
        )
        page.keyboard.press("Control+Enter")
        page.get_by_role("button", name="line").click()

    shoot("ask", "ask/warehouse", ".cm-content", ask)
    shoot("feed", "feeds/partner-bookings", "[data-testid=days] td")
    night = browser.new_page(viewport=_SIZE, color_scheme="dark", timezone_id=_ZONE)
    _sign_in(night, stack)
    night.goto(f"{stack.url}/runs/{client.runs(job='reservations-raw').items[0].id}")
    night.get_by_test_id("legs").get_by_role("button", name="booking").click()
    night.get_by_test_id("leg").wait_for()
    night.wait_for_timeout(600)
    night.screenshot(path=folder / "run-legs.png")


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
        "cli-standing": [[], ["jobs"]],
        "cli-look": [["look", "incoming", "bookings.csv", "--rows", "5"], ["check", "guestbook"]],
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


def take(stack: Stack, places: Places, folder: Path, clock: SetClock, nights: int) -> None:
    """Writes the pictures into ``folder``."""
    folder.mkdir(parents=True, exist_ok=True)
    with Client(stack.url, token=stack.token) as client, chromium() as browser:
        _prepare(stack, places, client, clock, nights)
        _pages(browser, stack, client, folder)
        _terminal(browser, stack, folder)
    print(f"wrote {len(list(folder.glob('*.png')))} pictures into {folder}")
