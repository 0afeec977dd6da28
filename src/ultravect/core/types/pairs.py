"""How values of one canonical type fit into another: what ``types.arrow.convert_typed`` does, said beforehand."""

from __future__ import annotations

from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_DIGITS = {"boolean": 1, "smallint": 5, "integer": 10, "bigint": 19}
_INTEGERS = ("smallint", "integer", "bigint")
_EXACT_IN = {"real": 7, "double": 15}  # decimal digits that always survive
_LIMITED = ("text", "binary", "time", "timestamp", "timestamptz")
# pairs that are neither text nor exact numbers
_PAIRS = {
    ("date", "timestamp"): (Fit.WIDER, ""),
    ("real", "double"): (Fit.WIDER, ""),
    ("timestamptz", "timestamp"): (Fit.DIFFERENT, "the moment in UTC, without its zone"),
    ("double", "real"): (Fit.DIFFERENT, "at most 7 digits are kept"),
    ("timestamp", "date"): (Fit.NARROWER, "the time of day must be midnight"),
}


def _room(kind: CanonicalType) -> tuple[int, int] | None:
    """Digits before and after the mark; None where any number is possible."""
    if kind.name == "decimal":
        return None if kind.precision is None else (kind.precision - (kind.scale or 0), kind.scale or 0)
    return (_DIGITS[kind.name], 0) if kind.name in _DIGITS else None


def pair_fit(source: CanonicalType, target: CanonicalType) -> tuple[Fit, str] | None:
    """The fit and what changes; None where values do not convert at all."""
    if source == target:
        return Fit.EXACT, ""
    if source.name == target.name and source.name != "decimal":
        return _same_name(source, target)
    if target.name == "text":
        return _as_text(source, target)
    if source.name == "text":
        if target.name == "binary":
            return Fit.NARROWER, "texts that are no hexadecimal digits are rejects"
        return Fit.NARROWER, f"texts that are no {target.name} are rejects"
    return _PAIRS.get((source.name, target.name)) or _numeric(source, target)


def enlarged(held: CanonicalType, coming: CanonicalType) -> CanonicalType | None:
    """The smallest type that a column of ``held`` can become without loss so that it takes ``coming``; None if none."""
    if held.name == coming.name and held.name in _LIMITED:
        return CanonicalType(
            held.name,
            length=_largest(held.length, coming.length),
            precision=_largest(held.precision, coming.precision),
        )
    if held.name in _INTEGERS and coming.name in _INTEGERS:
        return max(held, coming, key=lambda kind: _DIGITS[kind.name])
    numbers = (*_INTEGERS, "decimal")
    if held.name in numbers and coming.name in numbers:
        rooms = [_room(held), _room(coming)]
        known = [room for room in rooms if room is not None]
        before, after = max(room[0] for room in known or [(0, 0)]), max(room[1] for room in known or [(0, 0)])
        if len(known) < 2 or before + after > MAX_PRECISION:
            return CanonicalType("decimal")
        return CanonicalType("decimal", precision=before + after, scale=after)
    return CanonicalType("double") if (held.name, coming.name) == ("real", "double") else None


def _largest(held: int | None, coming: int | None) -> int | None:
    """The larger limit; None is no limit."""
    return None if held is None or coming is None else max(held, coming)


def _same_name(source: CanonicalType, target: CanonicalType) -> tuple[Fit, str]:
    """Types that differ in length, or in fractional digits of seconds."""
    before, after = (item.length if item.length is not None else item.precision for item in (source, target))
    if after is None or (before is not None and after >= before):
        return Fit.WIDER, ""
    what = f"at most {after} characters" if target.name == "text" else f"at most {after} bytes"
    return Fit.NARROWER, what if target.length is not None else f"at most {after} fractional digits of seconds"


def _as_text(source: CanonicalType, target: CanonicalType) -> tuple[Fit, str]:
    if target.length is not None:
        return Fit.NARROWER, f"at most {target.length} characters"
    return (Fit.DIFFERENT, "as hexadecimal digits") if source.name == "binary" else (Fit.WIDER, "as its text")


def _numeric(source: CanonicalType, target: CanonicalType) -> tuple[Fit, str] | None:
    exact = {*_INTEGERS, "decimal", "boolean"}
    if target.name == "boolean":
        return (Fit.NARROWER, "0 and 1 only") if source.name in _INTEGERS else None
    if source.name in exact and target.name in exact:
        before, after = _room(source), _room(target)
        if after is None or (before is not None and before[0] <= after[0] and before[1] <= after[1]):
            return Fit.WIDER, ""
        return Fit.NARROWER, f"at most {after[0]} digits before the mark, {after[1]} after it"
    if source.name in exact and target.name in _EXACT_IN:
        room = _room(source)
        if room is not None and room[1] == 0:
            fits = room[0] <= _EXACT_IN[target.name]
            return (Fit.WIDER, "") if fits else (Fit.NARROWER, "whole numbers that are exact in binary")
        return Fit.DIFFERENT, "the nearest binary fraction"
    if source.name in _EXACT_IN and target.name in exact:
        return Fit.NARROWER, "numbers with no more digits than there is room for"
    return None
