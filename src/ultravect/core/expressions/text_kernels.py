"""What functions of texts and documents compute over Arrow arrays."""

from __future__ import annotations

import hashlib
import hmac as hmac_module
import json
import re
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.expressions.kernels import Computed, Kernel, constant, without
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import as_mask


def cased(name: str) -> Kernel:
    """Upper or lower case; for what is ASCII there is a quicker way."""
    plain_case, any_case = getattr(pc, f"ascii_{name}"), getattr(pc, f"utf8_{name}")
    return lambda arrays, kind: Computed((plain_case if is_ascii(arrays[0]) else any_case)(arrays[0]))


def is_ascii(text: pa.Array) -> bool:
    """Whether all bytes after the texts are ASCII."""
    data = text.buffers()[2]
    return data is None or data.size == 0 or int(np.frombuffer(data, np.uint8).max()) < 0x80


def concatenated(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    return Computed(pc.binary_join_element_wise(*arrays, ""))


def _sliced(text: pa.Array, first: int, count: int | None) -> pa.Array:
    begin = max(first - 1, 0)
    return pc.utf8_slice_codeunits(text, begin, None if count is None else max(first - 1 + count, begin))


def substring(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    """One slice of all texts for each pair of start and length that occurs, which mostly is one."""
    text, *bounds = arrays
    names = ["start", "length"][: len(bounds)]
    result: pa.Array = pa.nulls(len(text), pa.string())
    negative_length = pa.array(np.zeros(len(text), np.bool_))
    for pair in pa.table(bounds, names=names).group_by(names).aggregate([]).to_pylist():
        if None in pair.values():
            continue
        chosen = pc.fill_null(pc.equal(bounds[0], pair["start"]), False)
        if len(bounds) > 1:
            chosen = pc.and_(chosen, pc.fill_null(pc.equal(bounds[1], pair["length"]), False))
        if pair.get("length", 0) < 0:
            negative_length = pc.or_(negative_length, pc.and_(chosen, text.is_valid()))
        else:
            result = pc.if_else(chosen, _sliced(text, pair["start"], pair.get("length")), result)
    return without(result, negative_length, "a negative length")


def replaced(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    pattern, by = constant(arrays[1]), constant(arrays[2])
    if pattern is None or by is None:
        return Computed(pa.nulls(len(arrays[0]), pa.string()))
    return Computed(pc.replace_substring(arrays[0], pattern, by) if pattern else arrays[0])


def like(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    pattern = constant(arrays[1])
    if pattern is None:
        return Computed(pa.nulls(len(arrays[0]), pa.bool_()))
    # ISO SQL has no escape character unless one is named
    body = "".join({"%": ".*", "_": "."}.get(character, re.escape(character)) for character in pattern)
    return Computed(pc.match_substring_regex(arrays[0], f"^(?s:{body})$"))


def each_value(function: Callable[[str], str | None]) -> Kernel:
    """For what no kernel computes: once for each distinct value."""

    def compute(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
        codes = arrays[0].dictionary_encode()
        values = pa.array([function(value) for value in codes.dictionary.to_pylist()], pa.string())
        return Computed(values.take(codes.indices))

    return compute


sha256 = each_value(lambda value: hashlib.sha256(value.encode()).hexdigest())
md5 = each_value(lambda value: hashlib.md5(value.encode(), usedforsecurity=False).hexdigest())


def keyed(key: str) -> Kernel:
    return each_value(lambda value: hmac_module.new(key.encode(), value.encode(), "sha256").hexdigest())


def keep_last(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    count = constant(arrays[1])
    if count is None:
        return Computed(pa.nulls(len(arrays[0]), pa.string()))
    length = pc.utf8_length(arrays[0])
    hidden = pc.max_element_wise(pc.subtract(length, count), 0, skip_nulls=False)
    stars = pc.binary_repeat(pa.scalar("*"), hidden)
    kept = pc.utf8_slice_codeunits(arrays[0], -count) if count else pa.repeat("", len(arrays[0]))
    return Computed(pc.binary_join_element_wise(stars, pc.if_else(length.is_valid(), kept, None), ""))


def json_path(path: str) -> list[str | int]:
    """The steps of ``$.a[0].b`` or of a JSON Pointer ``/a/0/b``; ValueError where it is neither."""
    if path == "" or path.startswith("/"):
        return [step.replace("~1", "/").replace("~0", "~") for step in path.split("/")[1:]]
    if not re.fullmatch(r"\$(?:\.[^.\[\]]+|\[\d+\])*", path):
        raise ValueError(f"{path!r} is neither a path such as $.wind.speed nor a JSON Pointer such as /wind/speed")
    return [int(step[1:-1]) if step[0] == "[" else step[1:] for step in re.findall(r"\.[^.\[\]]+|\[\d+\]", path)]


def _stepped_into(value: Any, steps: Sequence[str | int]) -> str | None:
    for step in steps:
        try:
            value = value[int(step)] if isinstance(value, list) else value[str(step)]
        except (KeyError, IndexError, ValueError, TypeError):
            return None
    if value is None or isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


def json_value(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    steps = json_path(constant(arrays[1]) or "")
    codes = arrays[0].dictionary_encode()
    values: list[str | None] = []
    broken: list[bool] = []
    for text in codes.dictionary.to_pylist():
        try:
            values.append(_stepped_into(json.loads(text, parse_float=str), steps))
            broken.append(False)
        except ValueError:
            values.append(None)
            broken.append(True)
    array = pa.array(values, pa.string()).take(codes.indices)
    failed = as_mask(pa.array(broken, pa.bool_()).take(codes.indices))
    return Computed(array, [("not JSON", failed)] if failed.any() else [])
