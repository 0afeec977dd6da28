"""Column names of source and target: matched exactly, then without regard to case and marks; and made to fit."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping, Sequence

from ultravect.core.dialects.base import Dialect

# as WORD in the grammar of expressions
_BARE = re.compile(r"(?!(?:as|except|not|case|when|null|true|false)\b)[^\W\d]\w*", re.IGNORECASE)


def quoted(name: str) -> str:
    """A name as expressions write it."""
    return name if _BARE.fullmatch(name) else '"' + name.replace('"', '""') + '"'


def folded(name: str) -> str:
    """A name without case and marks: ``Hut Code`` and ``hut_code`` are alike."""
    return "".join(character for character in name.casefold() if character.isalnum())


def loosely_matched(sources: Sequence[str], targets: Sequence[str]) -> Mapping[str, str]:
    """The target's column for each of the source's that has one: of the same name, or the only one alike."""
    found = {name: name for name in sources if name in targets}
    left = [name for name in targets if name not in found]
    for name in sources:
        if name in found:
            continue
        alike = [item for item in left if folded(item) == folded(name) and folded(name)]
        rivals = [source for source in sources if source not in found and folded(source) == folded(name)]
        if len(alike) == 1 and len(rivals) == 1:
            found[name] = alike[0]
            left.remove(alike[0])
    return found


def adapted(dialect: Dialect, names: Sequence[str]) -> list[tuple[str, str]]:
    """Names that a new table can have, each with the reason why it is not the one wanted, or "".

    The same names always become the same, so that a later run finds them again.
    """
    fold = str.lower if dialect.folds_case else str
    taken: set[str] = set()
    made = []
    for wanted in names:
        name, reason = wanted, ""
        if name.lower() in dialect.reserved:
            name, reason = f"{name}_", f"no column of {dialect.name} can have that name"
        if (spelled := dialect.spelled(name)) != name:
            name, reason = spelled, f"{dialect.name} takes not all its characters"
        if too_long := dialect.too_long(name):
            name, reason = _shortened(dialect, name), too_long
        free, number = name, 2
        while fold(free) in taken:
            free, number = f"{name}_{number}", number + 1
            reason = reason or f"in {dialect.name} it would be the same as another column's"
            if dialect.too_long(free):
                name = _shortened(dialect, free)
        taken.add(fold(free))
        made.append((free, reason))
    return made


def fitted(dialect: Dialect, names: Sequence[str]) -> dict[str, str]:
    """The names that columns would have got had the table been made for them, where they are others."""
    return {name: other for name, (other, reason) in zip(names, adapted(dialect, names), strict=True) if reason}


def _shortened(dialect: Dialect, name: str) -> str:
    """The start of a name that is too long, with a few digits that distinguish it from others with the same start."""
    digits = hashlib.sha256(name.encode()).hexdigest()[:6]
    start = name
    while dialect.too_long(f"{start}_{digits}"):
        start = start[:-1]
    return f"{start}_{digits}"
