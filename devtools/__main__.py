"""The verbs of ./dev."""

from __future__ import annotations

import argparse
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from demo.load import run_all
from standins.messages import MailCatcher

from devtools.demo_nights import begin, live_nights
from devtools.messages import write as write_messages
from devtools.places import Places
from devtools.stack import USER, Stack, stop_state
from ultravect.cli.legs import print_run_or_legs
from ultravect.client import Client
from ultravect.core.kinds.translations import translation_page

ROOT = Path(__file__).resolve().parent.parent
_SHOWN_NIGHTS = 7


def _wait_for_signal() -> None:
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: None)
    signal.pause()


def demo(arguments: argparse.Namespace) -> int:
    state = ROOT / ".dev" / "demo"
    stop_state(state)
    shutil.rmtree(state, ignore_errors=True)
    print("starting the service with a PostgreSQL server of its own, and the demo's other servers", flush=True)
    # so that what is killed in the demo is taken over soon
    mail = MailCatcher(folder=state / "mail")
    settings = {
        "ULTRAVECT_LOST_AFTER": "5",
        "ULTRAVECT_MAIL_SERVER": f"smtp://127.0.0.1:{mail.port}",
        "ULTRAVECT_MAIL_FROM": "ultravect@huts.example",
        "ULTRAVECT_GATHER_SECONDS": "3",
    }
    clock, settings = begin(state / "clock", arguments.nights, settings)
    stack = Stack.start(state, port=arguments.port, settings=settings)
    places: Places | None = None
    try:
        places = Places.start(arguments.rows, stack.postgres.url("postgres"))
        with Client(stack.url, token=stack.token) as client:
            print(f"making the demo's files, connections and jobs; {arguments.nights} nights pass", flush=True)
            live_nights(stack, places, client, clock, arguments.nights, arguments.rows)
            for message in mail.taken:
                print(f"mail to {message['To']}: {message['Subject']}")
            print("\nit is today; the other jobs run\n", flush=True)
            runs = run_all(client)
            print(
                f"\n{places.another_night()}; the ledger, the accounts, the lake, the board and the raw copy run again\n",
                flush=True,
            )
            for name in ("booking-ledger", "accounts", "season-lake", "season-board", "reservations-raw"):
                runs.append(client.wait(client.run(name).id))
                print_run_or_legs(runs[-1])
            print(
                f"\n{places.another_night()}; the service is killed while the raw copy runs, and started again\n",
                flush=True,
            )
            cut_off = client.run("reservations-raw").id
            next(event for event in client.follow(cut_off) if event.kind == "phase")
            stack.kill()
            stack.start_service()
            runs.append(client.wait(cut_off))
            print_run_or_legs(runs[-1])
            for _ in range(20):
                places.desk.busy()
            time.sleep(3)
            print()
            followed = {}
            for name, place in (("stays-live", "the front desks"), ("reservations-live", "the reservations")):
                stream = client.stream(name)
                followed[name] = sum(table.changes for table in stream.tables) if stream.state == "following" else 0
                print(
                    f"the stream of {name} is {stream.state}, and has followed {followed[name]} changes of {place}",
                    flush=True,
                )
            known = [connection.name for connection in client.connections() if connection.name != "valley-office"]
            tests = {name: client.test_connection(name) for name in known}
        print(
            "\nconnections: "
            + ", ".join(f"{name} {'works' if item.passed else 'FAILS'}" for name, item in tests.items())
        )
        if not all(followed.values()):
            return 1
        failed = [run.job for run in runs if run.state != "succeeded"] + [
            n for n, item in tests.items() if not item.passed
        ]
        if failed:
            print(f"\nfailed: {', '.join(failed)}")
            return 1
        if not arguments.once:
            print(f"\nconsole   {stack.url}\nAPI       {stack.url}/api/docs")
            print(f"user      {USER}\npassword  {stack.password}")
            print(f"\nin another terminal:\n  export ULTRAVECT_URL={stack.url} ULTRAVECT_TOKEN={stack.token}")
            print(
                "  .venv/bin/ultravect today\n  .venv/bin/ultravect streams\n\nmail that was sent is in .dev/demo/mail; Ctrl-C stops it",
                flush=True,
            )
            places.desk.open()
            _wait_for_signal()
        print("\nstopping", flush=True)
        return 0
    finally:
        if places is not None:
            places.stop()
        stack.close()
        mail.close()
        (state / "service.json").unlink(missing_ok=True)


def serve(arguments: argparse.Namespace) -> int:
    stop_state(arguments.state)
    stack = Stack.start(arguments.state, port=arguments.port, roots=arguments.root)
    print(f"serving at {stack.url}; {stack.state / 'service.json'} has token, user and password", flush=True)
    if not arguments.detach:
        try:
            _wait_for_signal()
        finally:
            stack.close()
            (stack.state / "service.json").unlink(missing_ok=True)
    return 0


def stop(arguments: argparse.Namespace) -> int:
    print(stop_state(arguments.state))
    return 0


def _all_pass(commands: list[list[str]], cwd: Path = ROOT) -> int:
    return max([subprocess.run(command, cwd=cwd).returncode for command in commands], default=0)


def lint(arguments: argparse.Namespace) -> int:
    code = _all_pass(
        [
            ["ruff", "check", "."],
            ["ruff", "format", "--check", "."],
            ["mypy"],
            ["lint-imports", "--no-cache"],
        ]
    )
    return max(code, _all_pass([["npm", "run", "--silent", "check"]], ROOT / "console"))


# of what is said to be quick: no browser, no faults, and PostgreSQL and SQLite for all databases
_QUICK = [
    "tests/core/model",
    "tests/core/types",
    "tests/core/dialects",
    "tests/core/expressions",
    "tests/core/layouts",
    "tests/core/engine",
    "tests/core/modes/test_modes.py",
    "tests/service/test_api.py",
    "tests/service/test_check.py",
    "tests/test_architecture.py",
    "tests/test_documentation.py",
    "-k",
    "not mariadb and not duckdb and not sqlserver and not browser",
]


def test(arguments: argparse.Namespace) -> int:
    """Lint, and all tests, with servers of its own for each processor; a quick selection; or those tests that are asked for."""
    pytest = [sys.executable, "-m", "pytest"]
    # one more than there are processors, since a third of the time is waited; with more, tests that kill at certain moments would miss them
    processes = ["--numprocesses", str(min((os.cpu_count() or 1) + 1, 4)), "--dist", "loadfile"]
    if arguments.rest == ["--quick"]:
        return _all_pass([[*pytest, *processes, *_QUICK]])
    if arguments.rest:
        return _all_pass([[*pytest, *arguments.rest]])
    with tempfile.TemporaryFile("w+") as output:
        linting = subprocess.Popen(
            [sys.executable, "-m", "devtools", "lint"], cwd=ROOT, stdout=output, stderr=subprocess.STDOUT
        )
        # in the order in which conftest.py sorts them: what takes long begins first
        code = _all_pass([[*pytest, *processes, "--no-loadscope-reorder", "--durations", "40"]])
        code = max(code, linting.wait())
        output.seek(0)
        print(f"\nlint and types:\n{output.read()}", flush=True)
    return code


def probes(arguments: argparse.Namespace) -> int:
    """Attacks on a service on loopback; they are part of all tests as well."""
    processes = ["--numprocesses", str(min((os.cpu_count() or 1) + 1, 4)), "--dist", "loadfile"]
    return _all_pass([[sys.executable, "-m", "pytest", *processes, "tests/probes", *arguments.rest]])


def bench(arguments: argparse.Namespace) -> int:
    return _all_pass([[sys.executable, "-m", "benchmarks", *arguments.rest]])


def shots(arguments: argparse.Namespace) -> int:
    from devtools.shots import take

    with tempfile.TemporaryDirectory(prefix="ultravect-", dir="/var/tmp") as state:
        os.chmod(state, 0o755)
        mail = MailCatcher()
        catcher = {"ULTRAVECT_MAIL_SERVER": f"smtp://127.0.0.1:{mail.port}", "ULTRAVECT_GATHER_SECONDS": "3"}
        clock, settings = begin(Path(state) / "clock", _SHOWN_NIGHTS, catcher)
        stack = Stack.start(Path(state), settings=settings)
        places = Places.start(4000, stack.postgres.url("postgres"))
        try:
            take(stack, places, ROOT / "docs" / "screenshots", clock, _SHOWN_NIGHTS)
        finally:
            places.stop()
            stack.close()
            stack.postgres.remove()
            mail.close()
    return 0


def types(arguments: argparse.Namespace) -> int:
    """Writes the page of types anew."""
    (ROOT / "docs" / "types.md").write_text(translation_page())
    return 0


def docs(arguments: argparse.Namespace) -> int:
    """Writes the page of commands anew, and builds the site that the service shows at /docs."""
    from devtools.site import build, write

    if arguments.build:
        build()
    else:
        write()
    return 0


def messages(arguments: argparse.Namespace) -> int:
    """Writes the pages of docs/messages anew."""
    print(f"wrote {write_messages(ROOT / 'docs')} pages")
    return 0


def api(arguments: argparse.Namespace) -> int:
    """Writes the types of the client and of the console anew, from the description of the API."""
    from devtools.api import write

    write()
    return 0


def matrix(arguments: argparse.Namespace) -> int:
    """Copies every type from each database to each and back, prints what came of it and writes the page anew."""
    from devtools.natives import page as natives
    from devtools.pairs import matrix as made

    page = made(lambda places: "\n" + natives(places))
    (ROOT / "docs" / "pairs.md").write_text(page)
    print(page)
    return 0


def corpus(arguments: argparse.Namespace) -> int:
    """Copies the sample files of public packages into PostgreSQL, compares every value and prints what is not right.

    Exit code 1 where a value was changed in silence.
    """
    from devtools.corpus.run import CHANGED, page
    from devtools.corpus.run import corpus as copied

    results = copied(ROOT / ".dev" / "corpus", arguments.only)
    print(page(results))
    return int(any(result.outcome == CHANGED for result in results))


def week(arguments: argparse.Namespace) -> int:
    """A week of nights in a minute."""
    from devtools.week import live_through

    live_through(arguments.pictures)
    return 0


def model(arguments: argparse.Namespace) -> int:
    """Random jobs against a plain model, through a service."""
    from devtools.model import AREAS
    from devtools.model import main as try_cases

    areas = [area for area in arguments.areas.split(",") if area] or list(AREAS)
    if unknown := set(areas) - set(AREAS):
        raise SystemExit(f"no area {', '.join(sorted(unknown))}; areas: {', '.join(AREAS)}")
    return try_cases(arguments.seed, arguments.count, areas)


def faults(arguments: argparse.Namespace) -> int:
    """Kills loads, and servers in the middle of loads, at random instants; prints what the targets held."""
    from devtools.faults import faults as kill_loads
    from devtools.faults import table
    from devtools.many_faults import many_faults
    from devtools.worker_faults import table as worker_table
    from devtools.worker_faults import worker_faults

    workers = worker_faults(arguments.runs)
    print(worker_table(workers), flush=True)
    many = many_faults(max(1, arguments.runs // 10))
    print(worker_table(many), flush=True)
    outcomes = kill_loads(arguments.count, arguments.count // 5)
    print(table(outcomes))
    return int(bool(workers.wrong or many.wrong) or any(outcome.wrong for outcome in outcomes))


def main() -> int:
    parser = argparse.ArgumentParser(prog="./dev")
    verbs = parser.add_subparsers(dest="verb", required=True)
    for verb in (
        demo,
        serve,
        stop,
        lint,
        test,
        bench,
        shots,
        docs,
        types,
        messages,
        api,
        matrix,
        corpus,
        faults,
        model,
        week,
        probes,
    ):
        item = verbs.add_parser(verb.__name__)
        item.set_defaults(run=verb)
        if verb in (demo, serve):
            item.add_argument("--port", type=int)
        if verb is corpus:
            item.add_argument("--only", default="", help="those whose package or name contains this")
        if verb is docs:
            item.add_argument("--build", action="store_true", help="the site alone")
        if verb is week:
            item.add_argument("--pictures", type=Path)
        if verb is model:
            item.add_argument("--seed", type=int, default=1)
            item.add_argument("--count", type=int, default=100, help="how many cases")
            item.add_argument("--areas", default="", help="what they are about, such as newer,kills; all if left out")
        if verb is faults:
            item.add_argument("--runs", type=int, default=200, help="runs while workers are killed and paused")
            item.add_argument(
                "--count",
                type=int,
                default=50,
                help="loads to kill, for each database and mode; one in five with its server",
            )
        if verb is demo:
            item.add_argument("--once", action="store_true", help="stop afterwards")
            item.add_argument("--rows", type=int, default=4000, help="bookings to make")
            item.add_argument("--nights", type=int, default=7, help="how many nights have passed before")
        if verb in (serve, stop):
            item.add_argument("--state", type=Path, required=True)
        if verb is serve:
            item.add_argument("--detach", action="store_true")
            item.add_argument(
                "--root", action="append", default=[], help="a folder that folder connections may be in"
            )
    arguments, rest = parser.parse_known_args()
    arguments.rest = rest
    if rest and arguments.verb not in ("test", "bench", "probes"):
        parser.error(f"unknown: {' '.join(rest)}")
    return int(arguments.run(arguments))


if __name__ == "__main__":
    sys.exit(main())
