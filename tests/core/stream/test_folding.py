"""Folding, against a plain model; and messages that no server sends."""

from __future__ import annotations

import contextlib
import struct
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.contracts.change_log import Changes, Kind
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.stream.folding import fold
from ultravect.core.kinds.postgresql.log_messages import MessageDecoder
from ultravect.core.loading.change_rows import ChangeRows

KEYS = [1, 2, 3]
CHANGE = st.tuples(
    st.sampled_from(["put", "drop", "move", "touch"]),
    st.sampled_from(KEYS),
    st.sampled_from(KEYS),
    st.integers(0, 99),
)


@given(st.sets(st.sampled_from(KEYS)), st.lists(CHANGE, max_size=25))
def test_the_folded_changes_lead_to_the_same_rows(begun: set[int], wanted: list[tuple[str, int, int, int]]) -> None:
    """Rows have a key, a number that always comes, and a large value that an update says only when it changes."""
    before: dict[int, tuple[int, str]] = {key: (0, f"old {key}") for key in begun}
    rows = dict(before)
    said: list[tuple[int, int, int | None, str | None, bool]] = []
    for number, (what, key, other, value) in enumerate(wanted):
        if what == "put":
            large = f"new {number}"
            said.append((Kind.UPDATE if key in rows else Kind.INSERT, key, value, large, False))
            rows[key] = (value, large)
        elif what == "drop" and key in rows:
            said.append((Kind.DELETE, key, None, None, False))
            rows.pop(key)
        elif what == "touch" and key in rows:
            said.append((Kind.UPDATE, key, value, None, True))
            rows[key] = (value, rows[key][1])
        elif what == "move" and key in rows and other not in rows:
            said.append((Kind.FORMER, key, None, None, False))
            said.append((Kind.UPDATE, other, value, None, True))
            rows[other] = (value, rows.pop(key)[1])
    if not said:
        return
    columns = [
        pa.array([item[place] for item in said], kind)
        for place, kind in ((1, pa.int32()), (2, pa.int32()), (3, pa.string()))
    ]
    count = np.arange(len(said), dtype=np.int64)
    unknown = np.array([at for at, item in enumerate(said) if item[4]], np.int64)
    changes = Changes(
        TableName(None, "t"),
        pa.table(columns, names=["0", "1", "2"]),
        np.array([item[0] for item in said], np.int8),
        count, count, count,
        {2: unknown} if len(unknown) else {},
    )  # fmt: skip
    folded = fold(changes, [0])
    values = folded.values.to_pylist()
    found = dict(before)
    for row in folded.removed:
        found.pop(values[row]["0"], None)
    for row in folded.written:
        large = values[row]["2"]
        if int(row) in folded.unknown:
            # the value that the row had before all of them, under the key that it had then
            origin = values[folded.moved[int(row)]]["0"] if int(row) in folded.moved else values[row]["0"]
            large = before[origin][1]
        found[values[row]["0"]] = (values[row]["1"], large)
    assert found == rows


def _framed(payload: bytes) -> bytes:
    return b"w" + struct.pack("!QQQ", 0, 0, 0) + payload


def _taken(messages: list[bytes]) -> Any:
    decoder = MessageDecoder(lambda transaction, position: None)
    decoder.relations[7] = ChangeRows([0] * 2)
    left = iter(messages)

    def receive(wait: int) -> tuple[int, bytes]:
        message = next(left, None)
        return (0, b"") if message is None else (len(message), message)

    while decoder.take(receive, 1 << 20, 1000)[0] > 0:
        pass
    return decoder


ROW = struct.pack("!I", 7) + b"N" + struct.pack("!H", 2) + b"t" + struct.pack("!i", 3) + b"abc" + b"n"


@given(st.binary(max_size=60), st.integers(0, len(ROW)), st.sampled_from(b"IUDBC"))
def test_no_message_does_more_than_be_refused(noise: bytes, cut: int, kind: int) -> None:
    for message in (noise, _framed(noise), _framed(bytes([kind]) + ROW[:cut] + noise)):
        with contextlib.suppress(ValueError):
            _taken([message])


@pytest.mark.parametrize("length", [-2, 4, 2**31 - 1])
def test_a_length_beyond_its_message_is_refused(length: int) -> None:
    broken = struct.pack("!I", 7) + b"N" + struct.pack("!H", 2) + b"t" + struct.pack("!i", length) + b"abc"
    with pytest.raises(ValueError, match="cut off"):
        _taken([_framed(b"I" + broken)])
