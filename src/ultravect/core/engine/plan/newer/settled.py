"""Files that were changed a moment ago, and may still grow: they are left for the next run."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from ultravect.core.layouts.base import SourceFile
from ultravect.core.model.base import duration_seconds
from ultravect.core.model.finding import Finding
from ultravect.core.words import counted, some_of


def changes_still(file: SourceFile, settled: str) -> bool:
    """Whether a file was changed within the duration ``settled``."""
    # far in the future is not just now: a clock is wrong, here or there
    within = dt.timedelta(seconds=duration_seconds(settled))
    return file.modified is not None and abs(dt.datetime.now(dt.UTC) - file.modified) < within


def unsettled_files(paths: Sequence[str], settled: str, place: str) -> Finding:
    """What is said of such files."""
    what = f"{counted(len(paths), 'file was', 'files were')} changed within {settled}, and left for the next run: {some_of(paths)}"
    return Finding("note", "files-unsettled", what, place)
