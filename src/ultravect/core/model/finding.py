"""What a check, a preview or a run has to say about a job."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

from ultravect.core.model.edits import Edit, edit_of

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Replacement:
    """A value to be written at a place of the job file."""

    place: str
    value: Any


@dataclass(frozen=True)
class Finding:
    """``place`` is the path in the job file (``into.table``), or "" where it is about the data.

    ``replacement`` is what the fix writes into the job file, where that is known; ``edit`` the same in a file's own lines.
    """

    severity: Severity
    code: str
    message: str
    place: str = ""
    fix: str = ""
    replacement: Replacement | None = None
    edit: Edit | None = None

    def edited(self, text: str) -> Finding:
        """The finding with its fix as an edit of the job file ``text``."""
        return (
            replace(self, edit=edit_of(text, self.replacement.place, self.replacement.value))
            if self.replacement
            else self
        )

    def as_dict(self) -> dict[str, Any]:
        shown = {key: value for key, value in asdict(self).items() if key not in ("replacement", "edit")}
        return shown | ({"edit": self.edit.as_dict()} if self.edit else {})
