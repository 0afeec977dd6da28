"""Random jobs against a plain model: whatever a source does and however runs end, the target holds what a few lines of Python say.

A case is a job, and steps: rows that come, change and go, files, new columns, edits of the job, runs, undone runs, and runs whose process is
killed or paused, whose session in a database is ended, or during which the source changes. It goes through a service by its client, into real
databases, and the target is read by the databases' own drivers. A case that fails is made smaller, and printed as the job's file and the
statements that repeat it.
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
from pyiceberg.catalog.sql import SqlCatalog

from devtools.mariadb import MariadbServer
from devtools.pairs import sqlserver_place
from devtools.service_processes import leg_processes
from devtools.stack import Stack, temporary_stack
from ultravect.client import Client, Run

Row = tuple[int, str, int, int | None]
"""``k``, which differs from row to row of an object; ``v``, anything; ``t``, the moment of the last change, which many rows share; ``w``, a
column that may be added later."""

AREAS = (
    "tables", "files", "feeds", "many", "newer", "gone", "replaces", "slices", "undo", "columns", "busy", "kills", "pauses", "cuts", "edits",
)  # fmt: skip
SOURCES = ("sqlite", "postgresql", "mariadb")
TARGETS = ("postgresql", "mariadb", "sqlite", "duckdb", "sqlserver", "lake", "iceberg", "jsonl")
_UNDONE_IN = ("postgresql", "mariadb", "sqlite", "duckdb")
_SETTINGS = {"ULTRAVECT_LOST_AFTER": "3"}
_SHOWN = 25
_TEXTS = ("a", "b", "", "é 🏔", "x'y", 'q"', "\\N", "null", "0", " b ")
_RUNS = ("run", "twice", "killed", "paused", "cut", "busy")


@dataclass(frozen=True)
class Step:
    """``what``: insert, change, delete, tick, file, column, edit, undo, run, twice, killed, paused, cut or busy; ``pick`` and ``text`` choose
    what it is done to."""

    what: str
    pick: int = 0
    text: str = ""

    def __str__(self) -> str:
        return f"{self.what} {self.pick} {self.text!r}"


@dataclass(frozen=True)
class Case:
    """``objects``: how many tables are copied; ``since``: of an overwrite, rows with a ``t`` below this stay as they are."""

    source: str
    target: str
    into: dict[str, Any]
    newer: bool
    steps: tuple[Step, ...]
    number: int = 0
    objects: int = 1
    slices: int = 0
    since: int = 0

    @property
    def keyed(self) -> bool:
        return "keys" in self.into

    @property
    def of_files(self) -> bool:
        return self.source in ("files", "feed")


def cases(seed: int, areas: Sequence[str]) -> Iterator[Case]:
    """One case after the other, the same ones for one seed."""
    number = 0
    while True:
        number += 1
        yield _case(random.Random(f"{seed}/{number}"), number, areas)


def _case(choose: random.Random, number: int, areas: Sequence[str]) -> Case:
    def among(area: str, share: float) -> bool:
        return area in areas and choose.random() < share

    kinds = [kind for kind, area in (("files", "files"), ("feed", "feeds")) if area in areas]
    source = (
        choose.choice(kinds) if kinds and ("tables" not in areas or choose.random() < 0.4) else choose.choice(SOURCES)
    )
    target = choose.choice([kind for kind in TARGETS if kind != "jsonl" or source != "feed"])
    newer = source == "feed" or among("newer", 0.5)
    mode = choose.choice(["append", "overwrite"] if target == "jsonl" else ["append", "overwrite", "upsert"])
    if newer and mode == "overwrite":
        mode = "append"
    into: dict[str, Any] = {"mode": mode}
    of_files, since = source in ("files", "feed"), 0
    if mode == "upsert":
        into["keys"] = ["k"]
        if not newer and among("gone", 0.5):
            into |= {"gone": choose.choice(["delete", {"flag": "is_gone"}]), "gone_limit": "100%"}
    elif mode == "overwrite" and target != "jsonl" and not of_files and among("replaces", 0.3):
        since = 3
        into["replaces"] = f"t >= {since}"
    elif mode == "overwrite" and target in _UNDONE_IN and among("undo", 0.5):
        into["keep_previous"] = 1
    grows = target not in ("jsonl", "sqlserver") and not of_files and not newer and among("columns", 0.4)
    if grows:
        into["if_different"] = "widen"
    changes = ["file"] if of_files else ["insert", "insert", "change", "delete", "tick"]
    runs = ["run", "run", "twice"]
    runs += [
        what
        for what, area in (("killed", "kills"), ("paused", "pauses"), ("cut", "cuts"), ("edit", "edits"))
        if area in areas
    ]
    runs += ["busy"] if "busy" in areas and not of_files and (newer or mode != "append") else []
    runs += ["undo"] if "keep_previous" in into else []
    wanted = [*changes, *changes, *runs, *(["column"] if grows else [])]
    steps = [
        Step(choose.choice(wanted), choose.randrange(100), choose.choice(_TEXTS))
        for _ in range(choose.randrange(3, 14))
    ]
    first = Step("file" if of_files else "insert", 1, "a")
    objects = 2 if not of_files and target != "jsonl" and among("many", 0.3) else 1
    slices = 2 if among("slices", 0.3) else 0
    return Case(
        source, target, into, newer, (first, *steps, Step("run"), Step("run")), number, objects, slices, since
    )


class Mismatch(Exception):
    """The target is not what the model says, or a run ended as none should."""


@dataclass
class _Model:
    """What one object of the source has, and what its target has to have."""

    case: Case
    rows: dict[int, Row] = field(default_factory=dict)
    files: dict[str, list[Row]] = field(default_factory=dict)
    target: list[Row] = field(default_factory=list)
    gone: set[int] = field(default_factory=set)
    previous: list[Row] | None = None
    clock: int = 1
    next: int = 1
    grown: bool = False
    _copied: set[str] = field(default_factory=set)
    _mark: int | None = None
    _at_mark: Counter[Row] = field(default_factory=Counter)

    def _coming(self) -> list[Row]:
        if self.case.of_files:
            names = [name for name in sorted(self.files) if not self.case.newer or name not in self._copied]
            self._copied |= set(names)
            return [row for name in names for row in self.files[name]]
        rows = [row for row in self.rows.values() if row[2] >= self.case.since]
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
        self.previous = None
        match self.case.into["mode"]:
            case "append":
                self.target = self.target + coming
            case "overwrite":
                self.previous = self.target
                self.target = [row for row in self.target if row[2] < self.case.since] + coming
            case _:
                held = {row[0]: row for row in self.target}
                new = {row[0]: row for row in coming}
                gone = self.case.into.get("gone")
                if gone == "delete":
                    held = {key: row for key, row in held.items() if key in new}
                elif gone:
                    self.gone = (self.gone | set(held)) - set(new)
                self.target = list((held | new).values())


class _Places:
    """Where cases read and write: each case in tables of its own."""

    def __init__(self, stack: Stack, maria: MariadbServer, client: Client) -> None:
        self.stack, self.maria, self.client = stack, maria, client
        maria.execute("CREATE DATABASE model")
        client.add_connection("maria", "mariadb", {**maria.settings("model"), "tls": "off"})
        self.lite, self.duck = stack.files / "model.sqlite", stack.files / "model.duckdb"
        self.lake, self.ice, self.out = (stack.files / name for name in ("lake", "ice", "out"))
        for folder in (self.lake, self.ice, self.out):
            folder.mkdir()
        sqlite3.connect(self.lite).close()
        self._tsql = sqlserver_place(stack.postgres)
        client.add_connection("tsql", "sqlserver", dict(self._tsql.spec.settings))
        client.add_connection("lite", "sqlite", {"path": str(self.lite)})
        client.add_connection("duck", "duckdb", {"path": str(self.duck), "create": True})
        client.add_connection("lake", "lake", {"path": str(self.lake)})
        client.add_connection("ice", "lake", {"path": str(self.ice), "format": "iceberg"})
        client.add_connection("out", "folder", {"path": str(self.out)})

    connections = {
        "sqlite": "lite", "postgresql": "warehouse", "mariadb": "maria", "duckdb": "duck", "sqlserver": "tsql", "lake": "lake", "iceberg": "ice",
        "jsonl": "out", "files": "incoming",
    }  # fmt: skip

    def sql(self, kind: str, statement: str) -> list[tuple[Any, ...]]:
        if kind == "postgresql":
            return self.stack.postgres.execute(statement, "warehouse")
        if kind == "mariadb":
            return self.maria.execute(statement.replace("\\", "\\\\"), database="model")
        if kind == "sqlserver":
            return self._tsql.sql(statement)
        if kind == "sqlite":
            with closing(sqlite3.connect(self.lite, isolation_level=None, timeout=30)) as session:
                return session.execute(statement).fetchall()
        with closing(duckdb.connect(str(self.duck), read_only=True)) as session:
            return session.execute(statement).fetchall()

    def cut(self, kind: str) -> None:
        """Ends the sessions that a database has with legs."""
        if kind == "postgresql":
            names = "application_name LIKE 'ultravect load%' OR application_name LIKE 'ultravect read%'"
            self.sql(kind, f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE {names}")
        elif kind == "mariadb":
            for (number,) in self.maria.execute("SELECT id FROM information_schema.processlist WHERE db = 'model'"):
                with suppress(Exception):
                    self.maria.execute(f"KILL {int(number)}")

    def held(self, kind: str, table: str, *, flagged: bool) -> list[tuple[Any, ...]]:
        """What a target has, by another reader than ours: rows, and whether each is flagged as gone."""
        if kind == "jsonl":
            texts = [path.read_text() for path in sorted(self.out.glob(f"{table}[.-]*jsonl"))]
            found = [json.loads(line) for text in texts for line in text.splitlines()]
        elif kind == "lake":
            found = DeltaTable(str(self.lake / table)).to_pyarrow_table().to_pylist()
        elif kind == "iceberg":
            catalogue = SqlCatalog(
                "default", uri=f"sqlite:///{self.ice}/catalogue.sqlite", warehouse=f"file://{self.ice}"
            )
            found = catalogue.load_table(("main", table)).scan().to_arrow().to_pylist()
        else:
            try:
                rows = self.sql(kind, f"SELECT k, v, t, w{', is_gone' if flagged else ''} FROM {table}")
            except Exception:  # each driver's own: the column is not there yet
                rows = self.sql(kind, f"SELECT k, v, t, NULL{', is_gone' if flagged else ''} FROM {table}")
            found = [dict(zip(("k", "v", "t", "w", "is_gone"), row, strict=False)) for row in rows]
        return [
            (
                int(row["k"]),
                row.get("v"),
                None if row.get("t") is None else int(row["t"]),
                row.get("w"),
                bool(row.get("is_gone")),
            )
            for row in found
        ]


@dataclass
class _Trial:
    """One case, carried out."""

    places: _Places
    case: Case
    name: str
    models: dict[str, _Model] = field(init=False)
    said: list[str] = field(default_factory=list)
    _last: int = 0

    def __post_init__(self) -> None:
        names = [self.name, f"{self.name}b"][: self.case.objects]
        self.models = {name: _Model(self.case) for name in names}

    @property
    def feed(self) -> str:
        columns = [
            {"name": "k", "type": "integer"},
            {"name": "v", "type": "text(40)"},
            {"name": "t", "type": "integer"},
        ]
        layout = {"format": "delimited", "header": True, "values": {"nulls": []}}
        version = {"layout": layout, "columns": ["k", "v", "t"]}
        document = {
            "ultravect": 1, "feed": self.name, "connection": "incoming", "files": f"{self.name}/*.csv", "columns": columns,
            "providers": {"one": {"files": f"{self.name}/*.csv", "versions": [version]}},
        }  # fmt: skip
        return json.dumps(document)

    @property
    def job(self) -> str:
        case = self.case
        source: dict[str, Any] = {"connection": self.places.connections.get(case.source, "")}
        match case.source:
            case "feed":
                source = {"feed": self.name}
            case "files":
                layout = {"format": "delimited", "header": True, "values": {"nulls": []}}
                source |= {"files": f"{self.name}/*.csv", "layout": layout}
            case _ if case.objects > 1:
                source["tables"] = list(self.models)
            case _:
                source["table"] = self.name
        if case.newer and case.source != "feed":
            source["newer"] = "files" if case.source == "files" else {"by": "t"}
        if case.since:
            source["where"] = f"t >= {case.since}"
        into = {"connection": self.places.connections[case.target], **case.into}
        into["files" if case.target == "jsonl" else "table"] = (
            f"{self.name}.jsonl"
            if case.target == "jsonl"
            else "{table}_to"
            if case.objects > 1
            else f"{self.name}_to"
        )
        columns = [
            "k integer",
            "v text(40)",
            "t integer",
            *(["* except (k, v, t)"] if "if_different" in case.into else []),
        ]
        document: dict[str, Any] = {"ultravect": 1, "job": self.name, "from": source, "columns": columns}
        run: dict[str, Any] = {"retry": {"attempts": 5, "wait": "1 s"}}
        if case.slices:
            run["slices"] = case.slices
        return json.dumps(document | {"into": into, "run": run}, ensure_ascii=False)

    def carry_out(self) -> None:
        """Mismatch where something is not as the model says."""
        if self.case.of_files:
            (self.places.stack.files / self.name).mkdir()
        for name in self.models if not self.case.of_files else ():
            self._sql(f"CREATE TABLE {name} (k integer, v varchar(40), t integer)")
        if self.case.source == "feed":
            self.places.client.save_feed(self.name, self.feed)
        self.places.client.save_job(self.name, self.job)
        for step in self.case.steps:
            self._take(step)

    def _sql(self, statement: str) -> None:
        self.said.append(statement)
        self.places.sql(self.case.source, statement)

    def _take(self, step: Step) -> None:
        name = list(self.models)[step.pick % len(self.models)]
        model = self.models[name]
        text = step.text.replace("'", "''")
        chosen = sorted(model.rows)[step.pick % len(model.rows)] if model.rows else None
        match step.what:
            case "tick":
                model.clock += 1
            case "insert":
                self._insert(name, step.text)
            case "change" if chosen is not None:
                model.rows[chosen] = (chosen, step.text, model.clock, model.rows[chosen][3])
                self._sql(f"UPDATE {name} SET v = '{text}', t = {model.clock} WHERE k = {chosen}")
            case "delete" if chosen is not None:
                del model.rows[chosen]
                self._sql(f"DELETE FROM {name} WHERE k = {chosen}")
            case "column" if not model.grown:
                model.grown = True
                self._sql(f"ALTER TABLE {name} ADD COLUMN w integer")
            case "file":
                self._write(step)
            case "edit":
                # what is saved anew has to go on where it was
                self.said.append("the job is saved again")
                self.places.client.save_job(self.name, self.job)
            case "undo":
                self._undo()
            case what if what in _RUNS:
                self._run(what)
                if what == "twice":
                    self._run("run")

    def _insert(self, name: str, text: str) -> None:
        model = self.models[name]
        row = (model.next, text, model.clock, model.clock if model.grown else None)
        model.rows[model.next] = row
        values = f"{row[0]}, '{text.replace(chr(39), chr(39) * 2)}', {row[2]}{f', {row[3]}' if model.grown else ''}"
        self._sql(f"INSERT INTO {name} VALUES ({values})")
        model.next += 1

    def _write(self, step: Step) -> None:
        model = self.models[self.name]
        name = f"{len(model.files):03}.csv"
        # one that is read as a whole may have keys again that came before
        first = max(1, model.next - step.pick % 3) if self.case.keyed else model.next
        rows: list[Row] = [
            (key, step.text.strip() or "x", model.clock, None) for key in range(first, first + 1 + step.pick % 4)
        ]
        model.next = rows[-1][0] + 1
        model.files[name] = rows
        path = self.places.stack.files / self.name / name
        lines = ["k,v,t", *(f'{k},"{v.replace(chr(34), chr(34) * 2)}",{t}' for k, v, t, _ in rows)]
        path.write_text("\n".join(lines) + "\n")
        self.said.append(f"{name}: {lines[1:]}")

    def _undo(self) -> None:
        """Of the run before, where nothing came in between, and it replaced what was there."""
        models = list(self.models.values())
        if not self._last or any(model.previous is None for model in models):
            return
        self.said.append("the run is undone")
        ended = self.places.client.wait(self.places.client.undo(self._last).id)
        if ended.state != "succeeded":
            raise Mismatch(f"the undo ended as {ended.state}: {ended.error}")
        for model in models:
            model.target, model.previous = model.previous or [], None
        self._last = 0
        self._compare()

    def _run(self, how: str) -> None:
        self.said.append({"run": "run", "twice": "run"}.get(how, f"run, {how}"))
        writing = threading.Thread(target=self._keep_busy) if how == "busy" else None
        started = self.places.client.run(self.name)
        if writing:
            writing.start()
        try:
            self._disturb(how)
            self._ended(started)
        finally:
            if writing:
                writing.join()
        if writing:
            self._ended(self.places.client.run(self.name))
        for model in self.models.values():
            held = bool(model.target)
            model.run()
            if not held or writing:
                model.previous = None  # nothing was there that could be kept, or the first of two runs has kept it
        self._compare()

    def _ended(self, started: Run) -> None:
        ended = self.places.client.wait(started.id)
        self._last = ended.id
        if ended.state != "succeeded":
            raise Mismatch(f"the run ended as {ended.state}: {ended.error}")

    def _keep_busy(self) -> None:
        """Rows come while a run reads."""
        for number in range(12):
            for name, model in self.models.items():
                model.clock += number % 2
                self._insert(name, "busy")
            time.sleep(0.02)

    def _disturb(self, how: str) -> None:
        if how not in ("killed", "paused", "cut"):
            return
        time.sleep(random.random() * 0.2)
        if how == "cut":
            self.places.cut(self.case.target if random.random() < 0.5 else self.case.source)
            return
        processes = leg_processes(self.places.stack.pid)
        for pid in processes:
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL if how == "killed" else signal.SIGSTOP)
        if how == "paused":
            time.sleep(random.choice([0.2, 4]))
            for pid in processes:
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGCONT)

    def _compare(self) -> None:
        for name, model in self.models.items():
            self._compare_one(name if self.case.target == "jsonl" else f"{name}_to", model)

    def _compare_one(self, table: str, model: _Model) -> None:
        flagged = isinstance(self.case.into.get("gone"), dict)
        try:
            found = self.places.held(self.case.target, table, flagged=flagged)
        except Exception as error:
            if not model.target:
                return  # there was nothing to be written yet
            raise Mismatch(f"the target cannot be read: {error}") from None
        wanted = Counter((*row, row[0] in model.gone) for row in model.target)
        if Counter(found) != wanted:
            missing = list((wanted - Counter(found)).elements())
            extra = list((Counter(found) - wanted).elements())
            raise Mismatch(f"{table}: missing: {missing[:10]}, too many: {extra[:10]}")


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
    maria = MariadbServer.create(logged=True)
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
