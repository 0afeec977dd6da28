"""What a plan says of marks: where the leg begins and ends, and what its load notes in the target."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ultravect.core.contracts.mark import MarkKey
from ultravect.core.types.canonical import CanonicalType


@dataclass(frozen=True)
class Ties:
    """Rows with the value of a mark: those that were copied are left out, and which ones were copied is noted.

    ``copied``: how many there were of each hash of their columns ``by``, of what ``ByPlan.lower`` names. ``noted_by``: the columns by
    which the rows of ``ByPlan.upper`` are noted; () for all that are read. ``come_again``: where they are too many to be noted, they may
    come once more, since keys say which rows of the target they are.
    """

    copied: Mapping[str, int]
    by: tuple[str, ...] = ()
    noted_by: tuple[str, ...] = ()
    come_again: bool = False


@dataclass(frozen=True)
class ByPlan:
    """Rows whose column ``name`` is from ``lower`` (None: from the first) to ``upper``, both as texts of its ``type``.

    ``ties``: see ``Ties``; None where none can be, since no two rows have one value. ``position`` is that of the column in what is read
    then.

    ``follows``: where the server says what is new, the number of the copied column whose highest value becomes the mark; ``upper`` is ""
    then, since it is not known before rows are read.
    """

    name: str
    type: CanonicalType
    lower: str | None
    upper: str
    ties: Ties | None = None
    position: int = -1
    follows: int = -1


@dataclass(frozen=True)
class MarkEntry:
    """An entry of a mark as the load leaves it, ``value`` None: removed; ``before`` is what it was when the plan was made."""

    item: str
    value: str | None
    before: str | None = None


@dataclass(frozen=True)
class MarkPlan:
    """``entries`` are written with the load; that of a column is worked out while rows are read where ``by.ties`` is not None.

    ``then``: what happens with the files of the entries once the load is committed: ``keep``, ``delete``, or ``move:FOLDER``.
    ``summary`` says for a reader where the leg begins.
    """

    key: MarkKey
    summary: str
    entries: tuple[MarkEntry, ...] = ()
    by: ByPlan | None = None
    then: str = "keep"
    tidied: tuple[MarkEntry, ...] = field(default=())
    """Files that an earlier run has copied, and not moved or deleted since: as they are now."""
    versions: tuple[str, str] | None = None
    """Of a table that keeps versions: the one that was copied last, "" for none, and the newest."""

    def shown(self) -> dict[str, Any]:
        """What is recorded of it with a leg."""
        shown: dict[str, Any] = {"object": self.key.object, "summary": self.summary}
        if self.versions is not None:
            return shown | {"column": "version", "before": self.versions[0] or None, "after": self.versions[1]}
        if self.by is None:
            return shown | {"files": sum(entry.value is not None for entry in self.entries)}
        return shown | {"column": self.by.name, "before": self.by.lower, "after": self.by.upper}
