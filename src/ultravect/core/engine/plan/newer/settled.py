"""Files that were changed a moment ago, and may still grow: they are left for the next run."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence

from ultravect.core.layouts.base import SourceFile
from ultravect.core.model.base import duration_seconds
from ultravect.core.model.finding import Finding
from ultravect.core.words import counted, some_of


def changes_still(settled: str | None) -> Callable[[SourceFile], bool]:
    """Says of a file whether it was changed within the duration ``settled`` before now; of none where that is None."""
    within, now = dt.timedelta(seconds=duration_seconds(settled) if settled else 0), dt.datetime.now(dt.UTC)
    # far in the future is not just now: a clock is wrong, here or there
    return lambda file: file.modified is not None and abs(now - file.modified) < within


def unsettled_files(paths: Sequence[str], settled: str, place: str) -> Finding:
    """What is said of such files."""
    what = f"{counted(len(paths), 'file was', 'files were')} changed within {settled}, and left for the next run: {some_of(paths)}"
    return Finding("note", "files-unsettled", what, place)
