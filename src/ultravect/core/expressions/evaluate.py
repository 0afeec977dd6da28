"""Evaluates bound expressions over a batch of rows.

What cannot be computed for a row is a failure of that row, unless its value is not asked for: the branches of
``case`` that are not taken, and what ``coalesce`` does not reach, fail no row.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.expressions.bind import (
    LOG_FACTS,
    Bound,
    BoundCall,
    BoundCase,
    BoundCast,
    BoundColumn,
    BoundLiteral,
    RunFact,
)
from ultravect.core.expressions.kernels import Computed, Failures
from ultravect.core.types.arrow import as_text, convert_typed
from ultravect.core.types.casting import Mask, as_mask
from ultravect.core.types.misfits import explain
from ultravect.core.types.text_formats import NO_NULLS

_TAKE_SCALARS = frozenset(["=", "<>", "<", "<=", ">", ">=", "+", "-", "*", "and", "or", "||"])


@dataclass(frozen=True)
class Rows:
    """``columns`` by position, in their canonical Arrow types; ``first`` is the number of the first row in its file."""

    columns: Mapping[int, pa.Array]
    count: int
    file_name: str | pa.Array = ""
    numbers: pa.Array | None = None
    run_id: str = ""
    logged: Mapping[str, pa.Array] = field(default_factory=dict)
    """What the log of the source has of each row: ``bind.LOG_FACTS``."""


def evaluate(bound: Bound, rows: Rows) -> Computed:
    """The values of an expression, in its type's Arrow type."""
    match bound:
        case BoundColumn():
            return Computed(rows.columns[bound.position])
        case BoundLiteral():
            return Computed(pa.repeat(pa.scalar(bound.value, bound.type.arrow), rows.count))
        case BoundCast():
            return _cast(bound, evaluate(bound.value, rows))
        case BoundCase():
            return _case(bound, rows)
        case RunFact():
            return Computed(_shown(bound, rows))
        case BoundCall(function="coalesce"):
            return _coalesce(bound, rows)
        case BoundCall():
            parts = [_argument(argument, bound, rows) for argument in bound.arguments]
            computed = bound.kernel([part.array for part in parts], bound.type)
            return Computed(
                computed.array, [*(failure for part in parts for failure in part.failures), *computed.failures]
            )
    raise AssertionError(bound)


def _argument(argument: Bound, call: BoundCall, rows: Rows) -> Computed:
    """An argument's values; a literal as the one value that it is, where the function's kernel takes it so."""
    alone = isinstance(argument, BoundLiteral) and call.function in _TAKE_SCALARS
    if alone and not all(isinstance(item, BoundLiteral) for item in call.arguments):
        assert isinstance(argument, BoundLiteral)
        return Computed(pa.scalar(argument.value, argument.type.arrow))
    return evaluate(argument, rows)


def _shown(bound: RunFact, rows: Rows) -> pa.Array:
    if bound.what in LOG_FACTS:
        return rows.logged.get(bound.what, pa.nulls(rows.count, bound.type.arrow))
    if bound.what == "file_row":
        return rows.numbers if rows.numbers is not None else pa.nulls(rows.count, pa.int64())
    text = rows.file_name if bound.what == "file_name" else rows.run_id
    return pa.repeat(pa.scalar(text), rows.count) if isinstance(text, str) else text


def _cast(bound: BoundCast, value: Computed) -> Computed:
    converted = convert_typed(value.array, bound.type, NO_NULLS)
    failures: Failures = list(value.failures)
    array = converted.array
    failed = converted.failed
    if failed.any():
        index = int(np.argmax(failed))
        text = as_text(value.array.slice(index, 1)).to_pylist()[0]
        failures.append((explain(text or "", bound.type, NO_NULLS), failed))
    if bound.type.length is not None and pa.types.is_string(array.type):
        long = pc.fill_null(pc.greater(pc.utf8_length(array), bound.type.length), False)
        if as_mask(long).any():
            failures.append((f"longer than {bound.type.length} characters", as_mask(long)))
            array = pc.if_else(long, pa.scalar(None, array.type), array)
    return Computed(array, failures)


def _only(failures: Sequence[tuple[str, Mask]], where: Mask) -> Failures:
    return [(reason, mask & where) for reason, mask in failures if (mask & where).any()]


def _case(bound: BoundCase, rows: Rows) -> Computed:
    open_ = np.ones(rows.count, np.bool_)
    result: pa.Array = pa.nulls(rows.count, bound.type.arrow)
    failures: Failures = []
    for condition, value in bound.whens:
        test = evaluate(condition, rows)
        failures += _only(test.failures, open_)
        taken = as_mask(test.array) & open_
        given = evaluate(value, rows)
        failures += _only(given.failures, taken)
        result = pc.if_else(pa.array(taken), given.array, result)
        open_ &= ~taken
    if bound.otherwise is not None:
        given = evaluate(bound.otherwise, rows)
        failures += _only(given.failures, open_)
        result = pc.if_else(pa.array(open_), given.array, result)
    return Computed(result, failures)


def _coalesce(bound: BoundCall, rows: Rows) -> Computed:
    first, *others = bound.arguments
    given = evaluate(first, rows)
    result, failures = given.array, list(given.failures)
    for argument in others:
        if not result.null_count:
            break
        if isinstance(argument, BoundLiteral):
            result = pc.coalesce(result, pa.scalar(argument.value, argument.type.arrow))
            continue
        given = evaluate(argument, rows)
        if given.failures:
            failures += _only(given.failures, as_mask(result.is_null()))
        result = pc.coalesce(result, given.array)
    return Computed(result, failures)
