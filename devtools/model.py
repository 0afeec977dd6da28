"""Random jobs against a plain model: whatever a source does and however runs end, the target holds what a few lines of Python say.

A case is a job, and steps: rows that come, change and go, files, edits of the job, runs, and runs whose process is killed. It goes through a
service by its client, into real databases, and the target is read by the databases' own drivers. A case that fails is made smaller, and
printed as the job's file and the statements that repeat it.
"""

from __future__ import annotations

import json
import os
import random
import signal
import sqlite3
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import duckdb
from deltalake import DeltaTable

from devtools.mariadb import MariadbServer
from devtools.service_processes import leg_processes
from devtools.stack import Stack, temporary_stack
from ultravect.client import Client, Run

Row = tuple[int, str, int]
"""``k``, which differs from row to row of the source; ``v``, anything; ``t``, the moment of the last change, which many rows share."""

AREAS = ("tables", "files", "newer", "gone", "kills", "edits")
SOURCES = ("sqlite", "postgresql", "mariadb")
TARGETS = ("postgresql", "mariadb", "sqlite", "duckdb", "lake", "jsonl")
_SETTINGS = {"ULTRAVECT_LOST_AFTER": "3"}
_SHOWN = 25
_TEXTS = ("a", "b", "", "é 🏔", "x'y", 'q"', "\\N", "null", "0", " b ")


@dataclass(frozen=True)
class Step:
    """``what``: insert, change, delete, tick, file, edit, run, twice or killed; ``pick`` and ``text`` choose what it is done to."""

    what: str
    pick: int = 0
    text: str = ""

    def __str__(self) -> str:
        return f"{self.what} {self.pick} {self.text!r}"


@dataclass(frozen=True)
class Case:
    source: str
    target: str
    into: dict[str, Any]
    newer: bool
    steps: tuple[Step, ...]
    number: int = 0

    @property
    def keyed(self) -> bool:
        return "keys" in self.into


def cases(seed: int, areas: Sequence[str]) -> Iterator[Case]:
    """One case after the other, the same ones for one seed."""
    number = 0
    while True:
        number += 1
        yield _case(random.Random(f"{seed}/{number}"), number, areas)


def _case(choose: random.Random, number: int, areas: Sequence[str]) -> Case:
    source = (
        "files" if "files" in areas and ("tables" not in areas or choose.random() < 0.4) else choose.choice(SOURCES)
    )
    target = choose.choice(TARGETS)
    newer = "newer" in areas and choose.random() < 0.5
    mode = choose.choice(["append", "overwrite"] if target == "jsonl" else ["append", "overwrite", "upsert"])
    if newer and mode == "overwrite":
        mode = "append"
    into: dict[str, Any] = {"mode": mode}
    if mode == "upsert":
        into["keys"] = ["k"]
        if not newer and "gone" in areas and choose.random() < 0.4:
            into |= {"gone": "delete", "gone_limit": "100%"}
    changes = ["file"] if source == "files" else ["insert", "insert", "change", "delete", "tick"]
    runs = ["run", "run", "twice", *(["killed"] if "kills" in areas else [])]
    wanted = [*changes, *changes, *runs, *(["edit"] if "edits" in areas else [])]
    steps = [
        Step(choose.choice(wanted), choose.randrange(100), choose.choice(_TEXTS))
        for _ in range(choose.randrange(3, 14))
    ]
    first = Step("file" if source == "files" else "insert", 1, "a")
    return Case(source, target, into, newer, (first, *steps, Step("run"), Step("run")), number)


class Mismatch(Exception):
    """The target is not what the model says, or a run ended as none should."""


@dataclass
class _Model:
    """What the source has, and what the target has to have."""

    case: Case
    rows: dict[int, Row] = field(default_factory=dict)
    files: dict[str, list[Row]] = field(default_factory=dict)
    target: list[Row] = field(default_factory=list)
    clock: int = 1
    next: int = 1
    _copied: set[str] = field(default_factory=set)
    _mark: int | None = None
    _at_mark: Counter[Row] = field(default_factory=Counter)
    columns: tuple[str, ...] = ("k", "v", "t")

    def _coming(self) -> list[Row]:
        if self.case.source == "files":
            names = [name for name in sorted(self.files) if not self.case.newer or name not in self._copied]
            self._copied |= set(names)
            return [row for name in names for row in self.files[name]]
        rows = list(self.rows.values())
        if not self.case.newer or not rows:
            return rows
        top = max(row[2] for row in rows)
        if self._mark is not None and top < self._mark:
            return []
        above = [row for row in rows if self._mark is None or row[2] >= self._mark]
        left = Counter(self._at_mark) if self._mark is not None else Counter()
        found = []
        for row in above:
            if row[2] == self._mark and left[row]:
                left[row] -= 1
                continue
            found.append(row)
        self._mark, self._at_mark = top, Counter(row for row in rows if row[2] == top)
        return found

    def run(self) -> None:
        coming = self._coming()
        match self.case.into["mode"]:
            case "append":
                self.target += coming
            case "overwrite":
                self.target = coming
            case _:
                held = {row[0]: row for row in self.target}
                new = {row[0]: row for row in coming}
                if self.case.into.get("gone") == "delete":
                    held = {key: row for key, row in held.items() if key in new}
                self.target = list((held | new).values())


class _Places:
    """Where cases read and write: each case in tables of its own."""

    def __init__(self, stack: Stack, maria: MariadbServer, client: Client) -> None:
        self.stack, self.maria, self.client = stack, maria, client
        maria.execute("CREATE DATABASE model")
        client.add_connection("maria", "mariadb", {**maria.settings("model"), "tls": "off"})
        self.lite, self.duck = stack.files / "model.sqlite", stack.files / "model.duckdb"
        self.lake, self.out = stack.files / "lake", stack.files / "out"
        for folder in (self.lake, self.out):
            folder.mkdir()
        sqlite3.connect(self.lite).close()
        client.add_connection("lite", "sqlite", {"path": str(self.lite)})
        client.add_connection("duck", "duckdb", {"path": str(self.duck), "create": True})
        client.add_connection("lake", "lake", {"path": str(self.lake)})
        client.add_connection("out", "folder", {"path": str(self.out)})

    connections = {
        "sqlite": "lite", "postgresql": "warehouse", "mariadb": "maria", "duckdb": "duck", "lake": "lake", "jsonl": "out", "files": "incoming",
    }  # fmt: skip

    def sql(self, kind: str, statement: str) -> list[tuple[Any, ...]]:
        if kind == "postgresql":
            return self.stack.postgres.execute(statement, "warehouse")
        if kind == "mariadb":
            return self.maria.execute(statement.replace("\\", "\\\\"), database="model")
        if kind == "sqlite":
            with closing(sqlite3.connect(self.lite, isolation_level=None, timeout=30)) as session:
                return session.execute(statement).fetchall()
        with closing(duckdb.connect(str(self.duck), read_only=True)) as session:
            return session.execute(statement).fetchall()

    def held(self, kind: str, table: str) -> list[Row]:
        """What a target has, by another reader than ours."""
        if kind == "jsonl":
            texts = [path.read_text() for path in sorted(self.out.glob(f"{table}[.-]*jsonl"))]
            found = [json.loads(line) for text in texts for line in text.splitlines()]
            return [(int(row["k"]), row.get("v"), row.get("t")) for row in found]
        if kind == "lake":
            rows = DeltaTable(str(self.lake / table)).to_pyarrow_table().to_pylist()
            return [(int(row["k"]), row["v"], row["t"]) for row in rows]
        return [
            (int(k), v, None if t is None else int(t)) for k, v, t in self.sql(kind, f"SELECT k, v, t FROM {table}")
        ]


@dataclass
class _Trial:
    """One case, carried out."""

    places: _Places
    case: Case
    name: str
    model: _Model = field(init=False)
    said: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.model = _Model(self.case)

    @property
    def job(self) -> str:
        case = self.case
        source: dict[str, Any] = {"connection": self.places.connections[case.source]}
        if case.source == "files":
            source |= {
                "files": f"{self.name}/*.csv",
                "layout": {"format": "delimited", "header": True, "values": {"nulls": []}},
            }
        else:
            source["table"] = self.name
        if case.newer:
            source["newer"] = "files" if case.source == "files" else {"by": "t"}
        into = {"connection": self.places.connections[case.target], **case.into}
        into["files" if case.target == "jsonl" else "table"] = (
            f"{self.name}.jsonl" if case.target == "jsonl" else f"{self.name}_to"
        )
        kinds = {"k": "k integer", "v": "v text(40)", "t": "t integer"}
        document = {
            "ultravect": 1, "job": self.name, "from": source, "columns": [kinds[name] for name in self.model.columns], "into": into,
        }  # fmt: skip
        return json.dumps(document, ensure_ascii=False)

    def carry_out(self) -> None:
        """Mismatch where something is not as the model says."""
        if self.case.source == "files":
            (self.places.stack.files / self.name).mkdir()
        else:
            self._sql(f"CREATE TABLE {self.name} (k integer, v varchar(40), t integer)")
        self.places.client.save_job(self.name, self.job)
        for step in self.case.steps:
            self._take(step)

    def _sql(self, statement: str) -> None:
        self.said.append(statement)
        self.places.sql(self.case.source, statement)

    def _take(self, step: Step) -> None:
        model = self.model
        text = step.text.replace("'", "''")
        chosen = sorted(model.rows)[step.pick % len(model.rows)] if model.rows else None
        match step.what:
            case "tick":
                model.clock += 1
            case "insert":
                model.rows[model.next] = (model.next, step.text, model.clock)
                self._sql(f"INSERT INTO {self.name} VALUES ({model.next}, '{text}', {model.clock})")
                model.next += 1
            case "change" if chosen is not None:
                model.rows[chosen] = (chosen, step.text, model.clock)
                self._sql(f"UPDATE {self.name} SET v = '{text}', t = {model.clock} WHERE k = {chosen}")
            case "delete" if chosen is not None:
                del model.rows[chosen]
                self._sql(f"DELETE FROM {self.name} WHERE k = {chosen}")
            case "file":
                self._write(step)
            case "edit":
                # what is saved anew has to go on where it was
                self.said.append("the job is saved again")
                self.places.client.save_job(self.name, self.job)
            case "run" | "twice" | "killed":
                self._run(killed=step.what == "killed")
                if step.what == "twice":
                    self._run(killed=False)

    def _write(self, step: Step) -> None:
        model = self.model
        name = f"{len(model.files):03}.csv"
        # one that is read as a whole may have keys again that came before
        first = max(1, model.next - step.pick % 3) if self.case.keyed else model.next
        rows = [(key, step.text.strip() or "x", model.clock) for key in range(first, first + 1 + step.pick % 4)]
        model.next = rows[-1][0] + 1
        model.files[name] = rows
        path = self.places.stack.files / self.name / name
        lines = ["k,v,t", *(f'{k},"{v.replace(chr(34), chr(34) * 2)}",{t}' for k, v, t in rows)]
        path.write_text("\n".join(lines) + "\n")
        self.said.append(f"{name}: {lines[1:]}")

    def _run(self, *, killed: bool) -> None:
        self.said.append("run, and its process is killed" if killed else "run")
        started = self.places.client.run(self.name)
        if killed:
            threading.Event().wait(random.random() * 0.2)
            for pid in leg_processes(self.places.stack.pid):
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
        ended: Run = self.places.client.wait(started.id)
        if ended.state != "succeeded":
            raise Mismatch(f"the run ended as {ended.state}: {ended.error}")
        self.model.run()
        self._compare()

    def _compare(self) -> None:
        try:
            found = self.places.held(
                self.case.target, self.name if self.case.target == "jsonl" else f"{self.name}_to"
            )
        except Exception as error:
            if not self.model.target:
                return  # there was nothing to be written yet
            raise Mismatch(f"the target cannot be read: {error}") from None
        if Counter(found) != Counter(self.model.target):
            missing = list((Counter(self.model.target) - Counter(found)).elements())
            extra = list((Counter(found) - Counter(self.model.target)).elements())
            raise Mismatch(f"missing: {missing[:10]}, too many: {extra[:10]}")


class Trials:
    """Carries out cases one after the other."""

    def __init__(self, places: _Places) -> None:
        self._places, self._numbers = places, 0

    def wrong(self, case: Case) -> tuple[str, _Trial]:
        """What is wrong with a case, "" where nothing is."""
        self._numbers += 1
        trial = _Trial(self._places, case, f"m{self._numbers}")
        try:
            trial.carry_out()
        except Mismatch as error:
            return str(error), trial
        return "", trial

    def smallest(self, case: Case) -> Case:
        """The case without the steps that it fails without."""
        place = 0
        while place < len(case.steps):
            shorter = replace(case, steps=case.steps[:place] + case.steps[place + 1 :])
            if shorter.steps and self.wrong(shorter)[0]:
                case = shorter
            else:
                place += 1
        return case


@contextmanager
def trials() -> Iterator[Trials]:
    """A service with what cases need, for as long as the context lasts."""
    maria = MariadbServer.create()
    try:
        maria.start()
        with temporary_stack("model", settings=_SETTINGS) as stack, Client(stack.url, token=stack.token) as client:
            yield Trials(_Places(stack, maria, client))
    finally:
        maria.stop()
        maria.remove()


def main(
    seed: int, count: int, areas: Sequence[str], say: Callable[[str], object] = partial(print, flush=True)
) -> int:
    """Carries out ``count`` cases; 1 where one is wrong, which is printed as small as it can be made."""
    started, tried = time.monotonic(), Counter[str]()
    with trials() as own:
        for case, _ in zip(cases(seed, areas), range(count), strict=False):
            wrong, trial = own.wrong(case)
            tried[f"{case.source} to {case.target}"] += 1
            if not wrong:
                if tried.total() % _SHOWN == 0:
                    say(f"{tried.total():,} cases, none wrong, {time.monotonic() - started:.0f} s")
                continue
            say(f"case {case.number} of seed {seed}: {wrong}; it is made smaller …")
            small = own.smallest(case)
            wrong, trial = own.wrong(small)
            say(f"{wrong or 'it does not fail every time'}\n{trial.job}")
            for line in trial.said:
                say(f"  {line}")
            return 1
    say(
        f"{count:,} cases of seed {seed} in {time.monotonic() - started:.0f} s, none wrong: {dict(sorted(tried.items()))}"
    )
    return 0
