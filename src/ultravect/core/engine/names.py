"""Column names of source and target: matched exactly, then without regard to case and marks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence


def quoted(name: str) -> str:
    """A name as expressions write it."""
    return name if name.isidentifier() else '"' + name.replace('"', '""') + '"'


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
        alike = [one for one in left if folded(one) == folded(name) and folded(name)]
        rivals = [one for one in sources if one not in found and folded(one) == folded(name)]
        if len(alike) == 1 and len(rivals) == 1:
            found[name] = alike[0]
            left.remove(alike[0])
    return found
