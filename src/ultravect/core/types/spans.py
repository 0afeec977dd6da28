"""Tells from the bytes of values, where they stand in a block, whether they are plainly of a type, and from what to what.

Eight bytes are looked at as one number, for all values of a column at once, so that nothing is cut out or copied.
What is not plainly of the type is left to be looked at as text: nothing is refused here.
"""

from __future__ import annotations

import datetime as dt
import decimal
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.text_formats import ISO_DATE, TextFormats, cases

PAD = 16  # bytes of a buffer in front of its first value, and behind its last
_WORD = 8
_LONGEST_NUMBER = 2 * _WORD

Places = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
Words = npt.NDArray[np.uint64]


def _bytes(pattern: bytes) -> np.uint64:
    return np.uint64(int.from_bytes(pattern.ljust(_WORD, b"\0"), "little"))


_ZEROS = _bytes(b"0" * _WORD)
_OVER_NINE, _HIGH_BITS = _bytes(b"\x76" * _WORD), _bytes(b"\x80" * _WORD)
# by length: which bytes of a word belong to a value that ends there, and the zeros that stand in front of it
_KEEP_LAST = np.array([_bytes(b"\0" * (_WORD - n) + b"\xff" * n) for n in range(_WORD + 1)], np.uint64)
_FILL_FIRST = ~_KEEP_LAST & _ZEROS
_KEEP_FIRST = np.array([_bytes(b"\xff" * n) for n in range(_WORD + 1)], np.uint64)
_DAYS = np.array([0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])


@dataclass(frozen=True)
class Spans:
    """Where the values of a column start and end in ``buffer``, which has ``PAD`` bytes in front and behind."""

    buffer: npt.NDArray[np.uint8]
    starts: Places
    ends: Places

    def __len__(self) -> int:
        return len(self.starts)

    @cached_property
    def words(self) -> Words:
        """The eight bytes from each place on."""
        shape = (len(self.buffer) - _WORD + 1,)
        return np.ndarray(shape, np.dtype("<u8"), self.buffer, strides=(1,))

    @property
    def lengths(self) -> Places:
        return self.ends - self.starts

    def only(self, which: Mask) -> Spans:
        return replace(self, starts=self.starts[which], ends=self.ends[which])

    def text(self) -> pa.Array:
        """The values as strings; their bytes are UTF-8."""
        lengths = self.lengths
        offsets = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int32)
        at = np.repeat(self.starts - offsets[:-1], lengths) + np.arange(offsets[-1])
        return pa.StringArray.from_buffers(len(self), pa.py_buffer(offsets), pa.py_buffer(self.buffer[at]))


@dataclass(frozen=True)
class Proof:
    """``fit`` values are of the type, from ``low`` to ``high``; ``rest`` marks those that are not plainly so.

    ``nulls`` are neither. ``longest`` is the length in characters of the longest text, for text only.
    """

    fit: int
    rest: Mask
    low: Any = None
    high: Any = None
    nulls: int = 0
    longest: int | None = None


def _digits(words: Words, lengths: Places) -> tuple[Words, Mask]:
    """The number that the last ``lengths`` bytes of each word make, and where they are digits."""
    digits = ((words & _KEEP_LAST[lengths]) | _FILL_FIRST[lengths]) ^ _ZEROS
    fine = (((digits + _OVER_NINE) | digits) & _HIGH_BITS) == 0
    # pairs, then all four pairs at once
    pairs = digits * np.uint64(10) + (digits >> np.uint64(8))
    low, high = np.uint64(0x000000FF000000FF), np.uint64(16)
    number = (pairs & low) * np.uint64(0x000F424000000064) + ((pairs >> high) & low) * np.uint64(0x0000271000000001)
    return number >> np.uint64(32), fine


def _numbers(spans: Spans) -> tuple[npt.NDArray[np.int64], Mask]:
    """Digits without a leading zero, and where the values are that."""
    lengths = spans.lengths
    value, fine = _digits(spans.words[spans.ends - _WORD], np.minimum(lengths, _WORD))
    if (longest := int(lengths.max(initial=0))) > _WORD:
        head, head_fine = _digits(
            spans.words[spans.ends - 2 * _WORD], np.maximum(np.minimum(lengths, _LONGEST_NUMBER) - _WORD, 0)
        )
        value = head * np.uint64(10**_WORD) + value
        fine &= head_fine
        if longest > _LONGEST_NUMBER:
            fine &= lengths <= _LONGEST_NUMBER
    fine &= (lengths == 1) | ((lengths > 1) & (spans.buffer.take(spans.starts) != ord("0")))
    return value.astype(np.int64), fine


def _signed(spans: Spans) -> tuple[Spans, Mask]:
    minus = spans.buffer.take(spans.starts) == ord("-")
    return (replace(spans, starts=spans.starts + minus) if minus.any() else spans), minus


def _proof(values: npt.NDArray[np.int64], fine: Mask, show: Callable[[int], Any]) -> Proof:
    if not fine.all():
        values = values[fine]
    if not len(values):
        return Proof(0, ~fine)
    return Proof(len(values), ~fine, show(int(values.min())), show(int(values.max())))


def _whole_numbers(spans: Spans, wanted: CanonicalType, formats: TextFormats) -> Proof:
    plain, minus = _signed(spans)
    values, fine = _numbers(plain)
    return _proof(np.where(minus, -values, values) if minus.any() else values, fine, int)


def _decimals(spans: Spans, wanted: CanonicalType, formats: TextFormats) -> Proof:
    scale = wanted.scale or 0
    plain, minus = _signed(spans)
    # how many digits stand behind the mark: as many as the scale says where there is no mark
    behind = np.zeros(len(spans), np.int64)
    for places in range(min(scale, _WORD), 0, -1):
        at = plain.ends - 1 - places
        found = (plain.buffer.take(at) == ord(formats.decimal_mark)) & (at > plain.starts)
        behind[found] = places
        if found.all():
            break
    whole, fine = _numbers(replace(plain, ends=plain.ends - behind - (behind > 0)))
    fraction, fraction_fine = _digits(plain.words[plain.ends - _WORD], behind)
    power = 10 ** np.arange(_WORD + 1)
    fine &= fraction_fine & (plain.lengths < _LONGEST_NUMBER)
    if scale > _WORD:
        fine &= False
        scale = 0
    # at most 15 digits before the mark: what 64 bits do not hold is looked at as text
    fine &= whole < 10 ** (18 - scale)
    values = whole * power[scale] + fraction.astype(np.int64) * power[scale - np.minimum(behind, scale)]
    return _proof(np.where(minus, -values, values), fine, lambda value: decimal.Decimal(value).scaleb(-scale))


def _days(spans: Spans) -> tuple[npt.NDArray[np.int64], Mask]:
    """Dates written 2026-06-01 at the starts, as 20260601, and where they are dates."""
    dashes, keep = _bytes(b"\0\0\0\0-\0\0-"), _bytes(b"\xff\xff\xff\xff\0\xff\xff\0")
    head = spans.words[spans.starts]
    fine = (head & ~keep) == dashes
    eight = np.full(len(spans), _WORD)
    # the dashes taken for zeros, 2026-06- is 20260060
    front, front_fine = _digits((head & keep) | (_ZEROS & ~keep), eight)
    back, back_fine = _digits(spans.words[spans.starts + 2], np.full(len(spans), 2))
    year, month, day = front // np.uint64(10000), front // np.uint64(10) % np.uint64(100), back
    fine &= front_fine & back_fine & (month >= 1) & (month <= 12) & (day >= 1) & (year >= 1)
    fine &= day <= _DAYS[np.where(fine, month, 0).astype(np.int64)]
    leap = fine & (month == 2) & (day == 29)
    if leap.any():
        fine &= ~leap | ((year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0)))
    return ((year * np.uint64(100) + month) * np.uint64(100) + day).astype(np.int64), fine


def _date(spans: Spans, wanted: CanonicalType, formats: TextFormats) -> Proof:
    values, fine = _days(spans)
    return _proof(
        values,
        fine & (spans.lengths == 10),
        lambda value: dt.date(value // 10_000, value // 100 % 100, value % 100),
    )


def _timestamp(spans: Spans, wanted: CanonicalType, formats: TextFormats) -> Proof:
    day, fine = _days(spans)
    colons, keep = _bytes(b"\0\0:\0\0:\0\0"), _bytes(b"\xff\xff\0\xff\xff\0\xff\xff")
    tail = spans.words[spans.ends - _WORD]
    clock, clock_fine = _digits((tail & keep) | (_ZEROS & ~keep), np.full(len(spans), _WORD))
    hour, minute, second = (
        clock // np.uint64(10**6),
        clock // np.uint64(1000) % np.uint64(1000),
        clock % np.uint64(100),
    )
    fine &= clock_fine & ((tail & ~keep) == colons) & (hour < 24) & (minute < 60) & (second < 60)
    between = spans.buffer[spans.starts + 10]
    fine &= (spans.lengths == 19) & ((between == ord(" ")) | (between == ord("T")))

    def moment(value: int) -> dt.datetime:
        date, time = divmod(value, 10**8)
        return dt.datetime(
            date // 10_000, date // 100 % 100, date % 100, time // 10**6, time // 1000 % 1000, time % 100
        )

    return _proof(day * 10**8 + clock.astype(np.int64), fine, moment)


def _boolean(spans: Spans, wanted: CanonicalType, formats: TextFormats) -> Proof:
    lengths = spans.lengths
    words = spans.words[spans.starts] & _KEEP_FIRST[np.minimum(lengths, _WORD)]
    written = cases([word for word in (*formats.true_words, *formats.false_words) if word.isascii()])
    forms = [word.encode() for word in written]
    fine = np.isin(words, np.array([_bytes(form) for form in forms if len(form) <= _WORD], np.uint64))
    fine &= (lengths > 0) & (lengths <= _WORD)
    return Proof(int(fine.sum()), ~fine)


_PROVERS: dict[str, Callable[[Spans, CanonicalType, TextFormats], Proof]] = {
    "bigint": _whole_numbers,
    "decimal": _decimals,
    "date": _date,
    "timestamp": _timestamp,
    "boolean": _boolean,
}


def prove(spans: Spans, wanted: CanonicalType, formats: TextFormats) -> Proof | None:
    """Which values are plainly of a type; None where this type or way of writing cannot be told here."""
    prover = _PROVERS.get(wanted.name)
    dated = wanted.name in ("date", "timestamp")
    if prover is None or (dated and formats.date_pattern != ISO_DATE):
        return None
    proof = prover(spans, wanted, formats)
    if "" not in formats.nulls:
        return proof
    empty = spans.lengths == 0
    return replace(proof, rest=proof.rest & ~empty, nulls=int(empty.sum()))


def text_proof(spans: Spans, nulls: Sequence[str], longest: int) -> Proof:
    """Counts values that are text whatever they hold, and those that are NULL words; ``longest`` is the longest so far."""
    lengths = spans.lengths
    # a NULL word starts with its first byte or with white space: a control character, a blank, or beyond ASCII
    may_start = np.zeros(256, np.bool_)
    may_start[:0x21] = may_start[0x7F:] = True
    may_start[[word.encode()[0] for word in nulls if word]] = True
    short = (lengths == 0) | (may_start[spans.buffer.take(spans.starts)] & (lengths <= longest_null(nulls)))
    words = null_words(spans.only(short).text(), nulls) if short.any() else 0
    if int(lengths.max(initial=0)) > longest:
        longest = max(longest, int(pc.max(pc.utf8_length(spans.only(lengths > longest).text())).as_py()))
    return Proof(len(spans) - words, np.zeros(len(spans), np.bool_), nulls=words, longest=longest)


def longest_null(nulls: Sequence[str]) -> int:
    """Bytes of the longest NULL word with white space around it."""
    return max([len(word.encode()) for word in nulls], default=0) + 8


def null_words(values: pa.Array, nulls: Sequence[str]) -> int:
    """How many of these texts are NULL words, or empty, with or without white space around them."""
    found = pc.is_in(pc.utf8_trim_whitespace(values), pa.array(nulls or ("",)))
    return int(pc.sum(found).as_py() or 0)
