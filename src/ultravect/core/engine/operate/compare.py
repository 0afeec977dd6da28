"""Which rows differ between a job's source, as the job would load it, and its target; or between any two objects.

Both sides are read as a load reads its source, into the types of the target's columns. First each side is summed up by 65,536 buckets of rows
with the same hash of their keys; where a bucket differs, its rows are read again from both sides and held against each other, and what
differs is looked at once more after a moment, for either side may be written to meanwhile.
"""

from __future__ import annotations

import secrets
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.kept_sessions import keeping_sessions
from ultravect.core.engine.objects.connections import ConnectionSpec, holds_tables
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.operate.compared_values import comparable_array, hashes_of
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.engine.plan.target.replaced import replaced_check
from ultravect.core.engine.plan.target.target_checks import TargetCheck
from ultravect.core.engine.run.execute import require_plan
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Scope, bind_condition, columns_in
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.model.document import job_from_data
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.arrow import as_text
from ultravect.core.types.casting import Mask, as_mask

_BUCKETS = 1 << 16
_MOST_ROWS = 200_000
"""Rows of buckets that differ, of each side, that are held against each other."""

_SHOWN, _SHOWN_SIZE, _OF_A_VALUE = 1_000, 4 << 20, 20
"""How many of the differences are listed, and characters of them; with what is around each value."""

_MAX_VALUE = 1_000
_SAID = ("type-different", "type-by-database", "column-not-in-target", "date-order-unsure", "rows-unsure")
"""The findings of planning that say what is not compared, or not exactly."""

Hashes = npt.NDArray[np.uint64]


@dataclass(frozen=True)
class Asked:
    """``keys``: the columns by which rows are the same one, of the target; left out, those of the job, or the target's primary key.
    ``columns``: those that are compared; left out, all that both sides have. ``where``: only rows for which it is true, an expression about the
    target's columns. ``settle_seconds``: after which what differs is looked at again."""

    keys: Sequence[str] = ()
    columns: Sequence[str] = ()
    where: str = ""
    settle_seconds: float = 2.0


@dataclass(frozen=True)
class Difference:
    """A row that is not the same on both sides. ``where``: source, target, or both; ``values`` of both sides by column, texts or NULL: of a row
    that is on one side, those of that side; of one that is on both, those that differ."""

    where: str
    keys: Mapping[str, str | None]
    values: Mapping[str, tuple[str | None, str | None]]

    def as_dict(self) -> dict[str, Any]:
        values = {name: {"source": source, "target": target} for name, (source, target) in self.values.items()}
        return {"where": self.where, "keys": dict(self.keys), "values": values}


@dataclass
class Comparison:
    """What came of it. ``only_source``, ``only_target`` and ``different`` count rows, all that differ where it is ``complete``;
    ``differences`` are the first of them. ``rejected`` rows of the source do not fit into the target, and are compared with nothing."""

    keys: Sequence[str]
    columns: Sequence[str]
    rows_source: int = 0
    rows_target: int = 0
    rejected: int = 0
    only_source: int = 0
    only_target: int = 0
    different: int = 0
    complete: bool = True
    differences: list[Difference] = field(default_factory=list)
    findings: Sequence[Finding] = ()

    @property
    def equal(self) -> bool:
        """False, too, where only a part of what differed at first could be looked at again."""
        return self.complete and not (self.only_source or self.only_target or self.different or self.rejected)

    def as_dict(self) -> dict[str, Any]:
        return {
            "equal": self.equal,
            "complete": self.complete,
            "keys": list(self.keys),
            "columns": list(self.columns),
            "rows_source": self.rows_source,
            "rows_target": self.rows_target,
            "rejected": self.rejected,
            "only_source": self.only_source,
            "only_target": self.only_target,
            "different": self.different,
            "differences": [difference.as_dict() for difference in self.differences],
            "findings": [finding.as_dict() for finding in self.findings],
        }


def compare_job(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None = None,
    asked: Asked | None = None,
) -> Comparison:
    """Compares what the job would load now, all of it, with the table that it loads into. UltravectError says what is in the way."""
    if job.source.feed is not None:
        raise UltravectError(
            "compare-needs-object",
            f"job {job.job} reads the files of a feed as they come: they are not compared with its target",
            hint="the feed's register says which files were loaded, with their rows; one file is compared by its name: connection:object",
            place="from.feed",
        )
    if job.into.table is None:
        raise UltravectError(
            "compare-needs-table",
            f"job {job.job} writes files: their rows are not compared with its source",
            hint="compare two objects by their names: connection:object",
            place="into",
        )
    with keeping_sessions():
        left = _planned(_as_read(job), source, target, saved)
        right = _planned(_of_target(left), target, target)
        checks = [replaced_check(job, right.columns)] if job.into.replaces is not None else []
        return _compared(left, right, asked or Asked(), checks, loads=True)


def compare_objects(
    first: tuple[ConnectionSpec, str],
    second: tuple[ConnectionSpec, str],
    asked: Asked | None = None,
) -> Comparison:
    """Compares two objects, tables or files, by the columns that have the same names. Values are read as those of the second where it is a
    table, else as those of the first; of two files, as those of the first show."""
    with keeping_sessions(), tempfile.TemporaryDirectory(prefix="ultravect-compare-") as folder:
        if holds_tables(second[0].kind):
            left = _planned(_from_to(first, second), first[0], second[0])
            right = _planned(_of_target(left), second[0], second[0])
        elif holds_tables(first[0].kind):
            right = _planned(_from_to(second, first), second[0], first[0])
            left = _planned(_of_target(right), first[0], first[0])
        else:
            # of two files, the types of the first are those of a table that is never made
            (file := Path(folder) / "types.db").touch()
            place = ConnectionSpec("types", "sqlite", {"path": str(file)}, [folder])
            left = _planned(_typed(first, place), first[0], place)
            typed = [f"{quoted(column.name)} as {quoted(column.name)} {column.type}" for column in left.columns]
            right = _planned(_typed(second, place, typed), second[0], place)
        return _compared(left, right, asked or Asked(), [], loads=False)


def _as_read(job: Job) -> Job:
    """The job as a reading of all rows: it writes nothing, and asks for nothing that a load needs."""
    into = job.into.model_copy(
        update={
            "mode": "append",
            "if_missing": "fail",
            "if_different": "ignore" if job.into.if_different == "ignore" else "fail",
            "replaces": None,
            "gone": "keep",
            "only_if_empty": False,
            "keep_previous": 0,
            "before": [],
            "after": [],
        }
    )
    return job.model_copy(update={"source": job.source.model_copy(update={"newer": None}), "into": into})


def _planned(job: Job, source: ConnectionSpec, target: ConnectionSpec, saved: LayoutFile | None = None) -> Planning:
    plan = make_plan(job, source, target, saved, facts=RunFacts(), slots=None)
    require_plan(plan)
    if plan.reader is None:
        raise UltravectError("nothing-to-compare", f"{job.source.place}: {plan.nothing or 'there are no rows'}")
    return plan


def _object(spec: ConnectionSpec, name: str) -> dict[str, Any]:
    return {"connection": spec.name, "table" if holds_tables(spec.kind) else "files": name}


def _from_to(source: tuple[ConnectionSpec, str], target: tuple[ConnectionSpec, str]) -> Job:
    """A reading of the columns that both have."""
    into = _object(*target) | {"if_different": "ignore"}
    return _as_read(job_from_data({"ultravect": 1, "job": "compare", "from": _object(*source), "into": into}))


def _typed(source: tuple[ConnectionSpec, str], place: ConnectionSpec, columns: Sequence[str] | None = None) -> Job:
    """A reading into types of a table that is not there; ``columns`` say them, else they are found."""
    data: dict[str, Any] = {"ultravect": 1, "job": "compare", "from": _object(*source)}
    if columns is not None:
        data["columns"] = list(columns)
    return job_from_data(data | {"into": {"connection": place.name, "table": "compared", "mode": "append"}})


def _of_target(plan: Planning) -> Job:
    """A reading of the table that a plan would load into, of the columns that it brings. Texts that stand for what has a type of its own on the
    other side are read as that, so that they are equal where their values are."""
    assert plan.live is not None
    connection = plan.job.into.connection
    place = {"connection": connection, "table": str(plan.live.name)}

    def read(column: ColumnPlan) -> str:
        name, origin = quoted(column.name), column.origin
        if column.type.name == "text" and origin is not None and origin.name not in ("text", "json", "binary"):
            return f"cast({name} as {origin}) as {name}"
        return name

    columns = [read(column) for column in plan.columns]
    return job_from_data(
        {"ultravect": 1, "job": "compare", "from": place, "columns": columns, "into": place | {"mode": "append"}}
    )


def _compared(
    left: Planning, right: Planning, asked: Asked, checks: Sequence[TargetCheck], *, loads: bool
) -> Comparison:
    names = [column.name for column in right.columns if column.name in {other.name for other in left.columns}]
    keys = _keys(left, right, asked, names)
    chosen = _chosen(asked.columns, names, "columns") if asked.columns else names
    columns = [*keys, *(name for name in chosen if name not in keys)]
    findings = [item for item in left.findings if item.code.startswith(_SAID) and item.severity != "error"]
    if not keys:
        said = "nothing says which rows are the same one: whole rows are compared"
        findings.append(
            Finding("warning", "compare-without-keys", said, "into.keys", "name the columns of a key: --keys")
        )
    result = Comparison(keys, columns, findings=findings)
    conditions = [_condition(asked.where, right)] if asked.where else []
    seed = (secrets.randbits(64), secrets.randbits(64))
    source = _Side(left, columns, len(keys), [], conditions, loads, seed)
    target = _Side(right, columns, len(keys), checks, conditions, False, seed)
    first, second = _both(source.summed, target.summed)
    result.rows_source, result.rows_target, result.rejected = first.rows, second.rows, first.rejected
    buckets = first.differing(second)
    if not buckets.any():
        return result
    buckets, result.complete = _few(buckets, np.maximum(first.counts, second.counts))
    seen = _differing(*_both(lambda: source.of_buckets(buckets), lambda: target.of_buckets(buckets)))
    if seen:
        time.sleep(asked.settle_seconds)
        wanted = pa.array(sorted(seen), pa.uint64())
        again = _differing(*_both(lambda: source.of_keys(wanted), lambda: target.of_keys(wanted)))
        _fill(result, {key: again[key] for key in seen if key in again})
    return result


def _both(first: Callable[[], Any], second: Callable[[], Any]) -> tuple[Any, Any]:
    """Both sides are read at the same time."""
    with ThreadPoolExecutor(2, thread_name_prefix="compare") as threads:
        one, other = threads.submit(first), threads.submit(second)
        return one.result(), other.result()


def _keys(left: Planning, right: Planning, asked: Asked, names: Sequence[str]) -> list[str]:
    if asked.keys:
        return _chosen(asked.keys, names, "keys")
    if left.job.into.keys and left.job.into.keys != "primary":
        return _chosen(left.job.into.keys, names, "keys")
    for plan in (right, left):
        own = [column.name for column in plan.live.columns if column.key] if plan.live else []
        if own and set(own) <= set(names):
            return own
    return []


def _chosen(wanted: Sequence[str], names: Sequence[str], what: str) -> list[str]:
    by_fold = {name.lower(): name for name in names}
    for name in wanted:
        if name.lower() not in by_fold:
            raise UltravectError(
                "column-unknown",
                f"{what}: {name!r} is no column of both sides",
                hint=did_you_mean(name, list(names)) or f"both have: {', '.join(names)}",
                place=what,
            )
    return [by_fold[name.lower()] for name in wanted]


def _condition(where: str, plan: Planning) -> TargetCheck:
    """Decides which rows are compared; about all columns that both sides bring."""
    names, types = [column.name for column in plan.columns], [column.type for column in plan.columns]
    bound = bind_condition(parse_condition(where, "where"), Scope(names, types, plan.job.parameters), "where")
    return TargetCheck("where", where, bound, sorted(columns_in(bound)), "", strict=True)


@dataclass(frozen=True)
class _Sums:
    """By buckets of rows: how many, and the sum of the hashes of whole rows, modulo 2**64; and how many rows were rejected."""

    counts: npt.NDArray[np.int64]
    sums: Hashes
    rejected: int

    @property
    def rows(self) -> int:
        return int(self.counts.sum())

    def differing(self, other: _Sums) -> npt.NDArray[np.bool_]:
        found: npt.NDArray[np.bool_] = (self.counts != other.counts) | (self.sums != other.sums)
        return found


def _few(buckets: npt.NDArray[np.bool_], counts: npt.NDArray[np.int64]) -> tuple[npt.NDArray[np.bool_], bool]:
    """As many of the buckets as have not too many rows, at least one, and whether these are all."""
    rows = np.where(buckets, counts, 0).cumsum()
    few = buckets & (rows <= max(_MOST_ROWS, int(rows[np.flatnonzero(buckets)[0]])))
    return few, bool((few == buckets).all())


def _bucket_of(keys: Hashes) -> npt.NDArray[np.int64]:
    return (keys >> np.uint64(48)).astype(np.int64)


@dataclass(frozen=True)
class _Side:
    """One side: ``columns`` of which the first ``keys`` are the key; only rows that meet the conditions count."""

    plan: Planning
    columns: Sequence[str]
    keys: int
    checks: Sequence[TargetCheck]
    conditions: Sequence[TargetCheck]
    loads: bool
    """Whether rows that a load would reject for the checks of the job and the target are none."""

    seed: tuple[int, int]
    """The key of the hashes, new for each comparison: no one can make rows that have the same."""

    def _batches(self) -> Iterator[tuple[pa.RecordBatch, Hashes, Hashes, int]]:
        """All rows, with the hashes of their keys and of the whole; and how many others were rejected."""
        opened = OpenLeg.of(self.plan)
        shaper = Shaper.of(opened if self.loads else replace(opened, checks=()))
        documents = {column.name for column in self.plan.columns if column.type.name == "json"}
        for block in opened.reader.blocks():
            shaped = shaper.shape(block)
            batch = shaped.batch
            for check in (*self.checks, *self.conditions):
                if (outside := check.broken(batch.columns)).any():
                    batch = batch.filter(pa.array(~outside))
            batch = batch.select(list(self.columns))
            keys = whole = _NO_HASHES
            if batch.num_rows:
                values = [
                    comparable_array(column, is_json=name in documents)
                    for name, column in zip(self.columns, batch.columns, strict=True)
                ]
                whole = hashes_of(values, self.seed)
                keys = hashes_of(values[: self.keys], self.seed) if self.keys else whole
            yield batch, keys, whole, len(shaped.rejects)

    def summed(self) -> _Sums:
        counts, sums, rejected = np.zeros(_BUCKETS, np.int64), np.zeros(_BUCKETS, np.uint64), 0
        for _, keys, whole, rejects in self._batches():
            bucket = _bucket_of(keys)
            counts += np.bincount(bucket, minlength=_BUCKETS)
            np.add.at(sums, bucket, whole)
            rejected += rejects
        return _Sums(counts, sums, rejected)

    def of_buckets(self, buckets: npt.NDArray[np.bool_]) -> pa.Table:
        """The rows of some buckets, with the hashes of their keys and of the whole."""
        return self._rows(lambda keys: as_mask(pa.array(buckets[_bucket_of(keys)])))

    def of_keys(self, wanted: pa.Array) -> pa.Table:
        """The same of rows with these hashes of keys."""
        return self._rows(lambda keys: as_mask(pc.is_in(pa.array(keys), wanted)))

    def _rows(self, which: Callable[[Hashes], Mask]) -> pa.Table:
        kinds = {column.name: column.type.arrow for column in self.plan.columns}
        hashes = [(_KEY, pa.uint64()), (_WHOLE, pa.uint64())]
        schema = pa.schema([*((name, kinds[name]) for name in self.columns), *hashes])
        found: list[pa.RecordBatch] = []
        for batch, keys, whole, _ in self._batches():
            if (mask := which(keys)).any():
                rows = pa.RecordBatch.from_arrays([*batch.columns, pa.array(keys), pa.array(whole)], schema=schema)
                found.append(rows.filter(pa.array(mask)))
        return pa.Table.from_batches(found, schema)


_NO_HASHES: Hashes = np.zeros(0, np.uint64)
_KEY, _WHOLE = "\0key", "\0whole"
"""Names that no column has, of the hashes."""

_Row = tuple[str | None, ...]
_Rows = tuple[list[_Row], list[_Row]]


def _differing(source: pa.Table, target: pa.Table) -> dict[int, _Rows]:
    """By the hash of a key: rows of the source and of the target that are not on the other side, as texts."""
    left, right = _by_key(source), _by_key(target)
    found: dict[int, _Rows] = {}
    names = source.column_names[:-2]
    odd: tuple[list[int], list[int]] = ([], [])
    for key in left.keys() | right.keys():
        ones, others = left.get(key, {}), right.get(key, {})
        if ones.keys() == others.keys() and all(len(ones[whole]) == len(others[whole]) for whole in ones):
            continue
        found[key] = ([], [])
        for number, (mine, theirs) in enumerate(((ones, others), (others, ones))):
            for whole, places in mine.items():
                odd[number].extend(places[len(theirs.get(whole, ())) :])
    for number, table in enumerate((source, target)):
        rows = table.take(pa.array(sorted(odd[number]), pa.int64()))
        texts = zip(*(as_text(rows.column(name)).to_pylist() for name in names), strict=True)
        for key, text in zip(rows.column(_KEY).to_pylist(), texts, strict=True):
            found[key][number].append(text)
    return found


def _by_key(table: pa.Table) -> dict[int, dict[int, list[int]]]:
    """By the hash of a key, and of the whole row: the places of the rows."""
    found: dict[int, dict[int, list[int]]] = {}
    pairs = zip(table.column(_KEY).to_pylist(), table.column(_WHOLE).to_pylist(), strict=True)
    for place, (key, whole) in enumerate(pairs):
        found.setdefault(key, {}).setdefault(whole, []).append(place)
    return found


def _fill(result: Comparison, differing: Mapping[int, _Rows]) -> None:
    count, found = len(result.keys), []

    def add(where: str, row: _Row, sides: Iterator[tuple[str | None, str | None]], *, whole: bool) -> None:
        """``whole``: all values but the keys, not only those that differ."""
        values = {
            name: (mine and mine[:_MAX_VALUE], theirs and theirs[:_MAX_VALUE])
            for at, (name, (mine, theirs)) in enumerate(zip(result.columns, sides, strict=True))
            if (at >= count if whole else mine != theirs)
        }
        keys = [value and value[:_MAX_VALUE] for value in row[:count]]
        found.append(Difference(where, dict(zip(result.keys, keys, strict=True)), values))

    for source, target in differing.values():
        # of rows without a key, or with one that is there several times, none is the other's
        both = min(len(source), len(target))
        for one, other in zip(source, target, strict=False):
            add("both", one, zip(one, other, strict=True), whole=False)
        for row in source[both:]:
            add("source", row, ((value, None) for value in row), whole=True)
        for row in target[both:]:
            add("target", row, ((None, value) for value in row), whole=True)
        result.different += both
        result.only_source += len(source) - both
        result.only_target += len(target) - both
    result.differences = list(_shown(sorted(found, key=_order)))


def _shown(differences: Sequence[Difference]) -> Iterator[Difference]:
    """The first, as many as an answer has room for."""
    size = 0
    for difference in differences[:_SHOWN]:
        size += sum(len(side or "") + _OF_A_VALUE for values in difference.values.values() for side in values)
        if size > _SHOWN_SIZE:
            return
        yield difference


def _order(difference: Difference) -> list[tuple[bool, float, str]]:
    """By the keys, numbers as numbers."""
    found = []
    for value in difference.keys.values():
        try:
            number = float(value or "")
        except ValueError:
            number = float("inf")
        found.append((value is None, number, value or ""))
    return found
