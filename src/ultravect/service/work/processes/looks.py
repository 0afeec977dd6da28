"""What is looked at in a process of its own: everything by which a request reads what comes from outside.

Each function takes and gives what JSON has; connections come with their secrets opened, for the memory of that process only.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.alike import grouped
from ultravect.core.engine.look.arrivals import new_files
from ultravect.core.engine.look.browse import Wanted, list_inside, list_objects, preview, preview_query
from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.look.check_legs import check_legs
from ultravect.core.engine.look.draft import Drafted, draft
from ultravect.core.engine.look.draft_feed import draft_version
from ultravect.core.engine.look.draft_many import draft_many
from ultravect.core.engine.look.raw import raw_start
from ultravect.core.engine.look.rehearse import one_leg, rehearse
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, probe
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.operate.compare import Asked, compare_job, compare_objects
from ultravect.core.engine.operate.marks import marks_of, reset_mark, set_mark
from ultravect.core.engine.operate.repair import repair_job
from ultravect.core.engine.operate.undo import require_undoable
from ultravect.core.engine.plan.legs.found_feed import require_columns
from ultravect.core.engine.stream.follow import drop_log, guard_log
from ultravect.core.model.document import FEED, LAYOUT, LAYOUT_FILE, job_from_data
from ultravect.core.model.files import LayoutFile
from ultravect.service.work.processes.plain import plain


def _spec(given: dict[str, Any]) -> ConnectionSpec:
    return ConnectionSpec(**given)


def connections_in(arguments: dict[str, Any]) -> list[ConnectionSpec]:
    """The connections that are among the arguments of a look."""
    return [
        _spec(value)
        for value in arguments.values()
        if isinstance(value, dict) and {"kind", "settings", "site"} <= value.keys()
    ]


def _saved(layout: dict[str, Any] | None) -> LayoutFile | None:
    return LAYOUT_FILE.read(layout) if layout else None


def _objects(spec: dict[str, Any], inside: str, listing: dict[str, Any], alike: bool) -> Any:
    """``more``: the name of the last one, where there are others than ``limit``; ``alike``: see ``grouped``."""
    asked = Listing(**listing)
    found = list_inside(_spec(spec), inside, asked) if inside else list_objects(_spec(spec), asked)
    shown = found[: asked.limit - 1]
    last = shown[-1]["name"] if len(found) > len(shown) else None
    return {"items": grouped(shown) if alike else shown, "more": last is not None, "next": last}


def _preview(spec: dict[str, Any], wanted: str, shown: list[Any], own: Any, saved: dict[str, Any] | None) -> Any:
    layout = LAYOUT.read(own) if own is not None else None
    return preview(_spec(spec), wanted, Wanted(*shown), layout, _saved(saved))


def _query(spec: dict[str, Any], query: str, shown: list[Any]) -> Any:
    return preview_query(_spec(spec), query, Wanted(*shown))


def _bytes(spec: dict[str, Any], wanted: str, size: int, encoding: str | None) -> Any:
    return raw_start(_spec(spec), wanted, size, encoding)


def _ask(spec: dict[str, Any], sql: str, limit: int, limit_seconds: float) -> Any:
    database = database_of(_spec(spec))
    answer = database.ask(sql, limit, limit_seconds)
    types = [str(database.dialect.to_canonical(native) or "") if native else "" for native in answer.natives]
    return {"columns": answer.columns, "types": types, "rows": answer.rows, "more": answer.more}


def _probe(spec: dict[str, Any], write: bool) -> Any:
    return probe(_spec(spec), write=write).as_dict()


def _check(
    job: Any,
    text: str,
    source: dict[str, Any],
    target: dict[str, Any],
    saved: dict[str, Any] | None,
    known: list[str] | None,
    usual: dict[str, Any],
) -> Any:
    model = job_from_data(job)
    if model.has_many:
        return check_legs(model, _spec(source), _spec(target), _saved(saved), known).edited(text).as_dict()
    return check_job(model, _spec(source), _spec(target), _saved(saved), usual=usual).edited(text).as_dict()


def _new_files(job: Any, source: dict[str, Any], target: dict[str, Any]) -> Any:
    return dict(new_files(job_from_data(job), _spec(source), _spec(target)))


def _rehearse(
    job: Any,
    source: dict[str, Any],
    target: dict[str, Any],
    saved: dict[str, Any] | None,
    rows: int | None,
    chosen: str,
    usual: dict[str, Any],
) -> Any:
    """``chosen``: the object to be rehearsed, of a job with many; "" for the first."""
    model = one_leg(job_from_data(job), _spec(source), _spec(target), chosen)
    return rehearse(model, _spec(source), _spec(target), _saved(saved), rows=rows, usual=usual).as_dict()


def _asked(asked: dict[str, Any]) -> Asked:
    return Asked(asked["keys"], asked["columns"], asked["where"], asked["settle_seconds"])


def _compare(
    job: Any,
    source: dict[str, Any],
    target: dict[str, Any],
    saved: dict[str, Any] | None,
    chosen: str,
    asked: dict[str, Any],
) -> Any:
    """``chosen``: the object to be compared, of a job with many; "" for the first."""
    model = job_from_data(job)
    if model.source.feed is None:
        model = one_leg(model, _spec(source), _spec(target), chosen)
    found = compare_job(model, _spec(source), _spec(target), _saved(saved), _asked(asked))
    # of the same rows as were compared, and by the same keys
    repair = repair_job(model, found.keys).as_file() if asked["repair"] and not found.equal else None
    return {"comparison": found.as_dict(), "repair": repair}


def _compare_objects(
    source: dict[str, Any], source_object: str, target: dict[str, Any], target_object: str, asked: dict[str, Any]
) -> Any:
    sides = (_spec(source), source_object), (_spec(target), target_object)
    return compare_objects(*sides, _asked(asked)).as_dict()


def _draft(
    source: dict[str, Any],
    target: dict[str, Any],
    drafted: dict[str, Any],
    saved: dict[str, Any] | None,
    objects: list[str],
) -> Any:
    if objects:
        return draft_many(_spec(source), _spec(target), Drafted(**drafted), objects)
    return draft(_spec(source), _spec(target), Drafted(**drafted), _saved(saved))


def _undoable(job: Any, target: dict[str, Any], run: str, leg: int, date: str, loads: list[str]) -> Any:
    keys = [ReceiptKey(name, leg) for name in loads]
    require_undoable(job_from_data(job), _spec(target), RunFacts(run, dt.date.fromisoformat(date)), keys)


def _marks(job: Any, source: dict[str, Any], target: dict[str, Any]) -> Any:
    return [mark.as_dict() for mark in marks_of(job_from_data(job), _spec(source), _spec(target))]


def _set_mark(job: Any, source: dict[str, Any], target: dict[str, Any], chosen: str, value: str) -> Any:
    changed = set_mark(job_from_data(job), _spec(source), _spec(target), chosen, value)
    return [mark.as_dict() for mark in changed]


def _reset_mark(job: Any, source: dict[str, Any], target: dict[str, Any], chosen: str) -> Any:
    return [mark.as_dict() for mark in reset_mark(job_from_data(job), _spec(source), _spec(target), chosen)]


def _drop_log(job: Any, source: dict[str, Any], target: dict[str, Any]) -> Any:
    return drop_log(job_from_data(job), _spec(source), _spec(target))


def _guard_log(job: Any, source: dict[str, Any], target: dict[str, Any]) -> Any:
    size, error = guard_log(job_from_data(job), _spec(source), _spec(target))
    return {"bytes": size, "error": error.as_dict() if error is not None else None}


def _feed(feed: dict[str, Any]) -> Any:
    """Whether every version gives what the feed's columns are."""
    require_columns(FEED.read(feed))


def _draft_feed(feed: dict[str, Any], spec: dict[str, Any], path: str, provider: str) -> Any:
    return draft_version(FEED.read(feed), _spec(spec), path, provider)


LOOKS: dict[str, Callable[..., Any]] = {
    "objects": _objects,
    "preview": _preview,
    "query": _query,
    "bytes": _bytes,
    "ask": _ask,
    "probe": _probe,
    "check": _check,
    "new_files": _new_files,
    "rehearse": _rehearse,
    "compare": _compare,
    "compare_objects": _compare_objects,
    "draft": _draft,
    "undoable": _undoable,
    "feed": _feed,
    "draft_feed": _draft_feed,
    "marks": _marks,
    "set_mark": _set_mark,
    "reset_mark": _reset_mark,
    "drop_log": _drop_log,
    "guard_log": _guard_log,
}


def look(name: str, arguments: dict[str, Any]) -> Any:
    """The answer of one of them, as JSON has it."""
    return plain(LOOKS[name](**arguments))
