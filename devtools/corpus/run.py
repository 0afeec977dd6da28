"""Looks at each sample, drafts a job, runs it into PostgreSQL and says what became of it."""

from __future__ import annotations

import datetime as dt
import fnmatch
import re
import sqlite3
import time
from collections import Counter, defaultdict
from collections.abc import Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import yaml

from devtools.corpus.compare import first_difference
from devtools.corpus.packages import Sample, fetch
from devtools.corpus.readers import NotTabular, Table_, read
from devtools.stack import Stack, temporary_stack
from ultravect.client import ApiError, Client

OUTCOMES = ("right", "right with a layout", "refused", "other names", "other rows", "changed", "slow", "failed")
CHANGED = "changed"
"""A value that is another one, in silence: what must not be."""

_ANSWERS = Path(__file__).with_name("answers.yaml")
_SLOW_SECONDS = 1.0


@dataclass(frozen=True)
class Result:
    """What became of a sample; ``said`` says why it is not right."""

    sample: Sample
    outcome: str
    detail: str = ""


def corpus(folder: Path, only: str = "", packages: Collection[str] = ()) -> list[Result]:
    """Copies every sample whose package or name contains ``only``; of all packages, or of those that are named."""
    samples = [item for item in fetch(folder, packages) if only in f"{item.package}/{item.name}"]
    answers = yaml.safe_load(_ANSWERS.read_text()) or {}
    results: list[Result] = []
    with temporary_stack("corpus", roots=[str(folder)]) as stack, Client(stack.url, token=stack.token) as client:
        client.add_connection("corpus", "folder", {"path": str(folder / "files")})
        with suppress(KeyboardInterrupt):  # what is done until then is reported all the same
            for number, (sample, answer) in enumerate(_objects(samples, answers)):
                found = _copied(stack, client, folder, sample, answer, f"t{number}")
                if found is not None:
                    results.append(found)
                    if found.detail:
                        print(f"{found.outcome:20} {sample.package} {sample.name}: {found.detail}", flush=True)
    return results


def _objects(samples: Sequence[Sample], answers: dict[str, Any]) -> Iterator[tuple[Sample, dict[str, Any]]]:
    for sample in samples:
        answer = (
            next((v for k, v in answers.items() if fnmatch.fnmatch(f"{sample.package}/{sample.name}", k)), {}) or {}
        )
        if answer.get("leave_out"):
            continue
        if sample.ending in (".sqlite", ".db"):
            try:
                with sqlite3.connect(sample.path) as database:
                    tables = [
                        entry for (entry,) in database.execute("select name from sqlite_master where type = 'table'")
                    ]
            except sqlite3.Error:
                continue
            for table in tables:
                yield sample, {**answer, "table": table}
        else:
            yield sample, answer


def _copied(
    stack: Stack, client: Client, folder: Path, sample: Sample, answer: dict[str, Any], table: str
) -> Result | None:
    try:
        expected = read(sample.path, sample.ending, answer)
    except NotTabular:
        return None
    except Exception:  # what the independent reader cannot read, nothing is compared with
        return None
    connection, name = "corpus", str(sample.path.relative_to(folder / "files"))
    if "table" in answer:
        connection, name = f"sqlite-{table}", answer["table"]
        client.add_connection(connection, "sqlite", {"file": str(sample.path)})
    try:
        start = time.monotonic()
        client.preview(connection, name)
        seconds = time.monotonic() - start
        found = _loaded(stack, client, connection, name, table, answer.get("layout"))
    except ApiError as error:
        return Result(sample, "refused", f"{error.code}: {error.detail}"[:300])
    if isinstance(found, str):
        return Result(sample, "failed", found)
    names, rows = found
    outcome, shown = _difference(expected, names, rows)
    if shown:
        return Result(sample, outcome, shown)
    if seconds > _SLOW_SECONDS:
        return Result(sample, "slow", f"looking took {seconds:.1f} s")
    return Result(sample, "right with a layout" if answer.get("layout") else "right")


def _loaded(
    stack: Stack, client: Client, connection: str, name: str, table: str, layout: Any
) -> tuple[list[str], list[tuple[Any, ...]]] | str:
    text = client.draft(connection, name, "warehouse", table)
    job = f"corpus-{table}"
    text = re.sub(r"(?m)^job: .*$", f"job: {job}", text, count=1)
    if layout:
        data = yaml.safe_load(text)
        data["from"]["layout"] = layout
        data.pop("columns", None)
        text = yaml.safe_dump(data, sort_keys=False)
    client.save_job(job, text)
    done = client.wait(client.run(job).id)
    if done.state != "succeeded":
        problem = done.error or {}
        return f"{done.state}: {str(problem)[:300]}"
    with psycopg.connect(stack.postgres.url("warehouse")) as database:
        cursor = database.execute(f'select * from "{table}"')
        return [item.name for item in cursor.description or ()], cursor.fetchall()


def _plain(name: str) -> str:
    return re.sub(r"\W+", "", name).lower()[:60]


def _difference(expected: Table_, names: Sequence[str], rows: Sequence[Sequence[Any]]) -> tuple[str, str]:
    """What differs, as an outcome and in words; "" where nothing does."""
    if len(expected.rows) != len(rows):
        return "other rows", f"{len(expected.rows):,} rows were expected, {len(rows):,} arrived"
    if expected.names is None:
        return CHANGED, first_difference(names, expected.rows, rows)
    if not expected.names:
        return "", ""  # only rows are counted
    by_name = {_plain(name): at for at, name in enumerate(names)}
    wanted, order = [], []
    for at, name in enumerate(expected.names):
        if _plain(name) in by_name:
            wanted.append(at)
            order.append(by_name[_plain(name)])
        elif _plain(name) and len(set(map(_plain, expected.names))) == len(expected.names):
            return "other names", f"column {name!r} is missing; there are {', '.join(names)[:120]}"
    return CHANGED, first_difference(
        [names[at] for at in order],
        [[row[at] if at < len(row) else None for at in wanted] for row in expected.rows],
        [[row[at] for at in order] for row in rows],
    )


def page(results: Sequence[Result]) -> str:
    """The table by package and outcome, and what is not right, as Markdown."""
    by_package: defaultdict[str, Counter[str]] = defaultdict(Counter)
    for result in results:
        by_package[result.sample.package][result.outcome] += 1
    total = Counter(result.outcome for result in results)
    count = sum(total.values())
    lines = [
        f"| package | {' | '.join(OUTCOMES)} |",
        f"|---|{'---|' * len(OUTCOMES)}",
        *(
            f"| {package} | {' | '.join(str(found[item] or '') for item in OUTCOMES)} |"
            for package, found in sorted(by_package.items())
        ),
        f"| **all** | {' | '.join(str(total[item]) for item in OUTCOMES)} |",
        "",
        f"{total['right'] / max(1, count):.1%} of {count:,} are right at once ({dt.date.today()}).",
        "",
    ]
    lines += [
        f"- {result.outcome}: {result.sample.package} `{result.sample.name}`: {result.detail}"
        for result in results
        if result.detail
    ]
    return "\n".join(lines) + "\n"
