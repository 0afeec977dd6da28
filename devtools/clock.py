"""A service's clock that is set, so that nights pass in seconds."""

from __future__ import annotations

import datetime as dt
import time
from pathlib import Path

from devtools.stack import Stack

VARIABLE = "ULTRAVECT_TEST_CLOCK"
_BUSY = """
SELECT (SELECT count(*) FROM records_run WHERE state IN ('queued', 'running') OR NOT noted)
  + (SELECT count(*) FROM records_schedule WHERE next_at <= '{now}')
  + (SELECT count(*) FROM records_duejob WHERE next_at <= '{now}')
"""


class SetClock:
    """``file`` is what the service's variable ULTRAVECT_TEST_CLOCK names; ``moment`` is what the clock shows."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self.moment = dt.datetime.now(dt.UTC)
        self.back()

    def to(self, moment: dt.datetime) -> None:
        self.moment = moment
        self._file.write_text(str(moment.timestamp() - time.time()))

    def back(self) -> None:
        """To the machine's time."""
        self.moment = dt.datetime.now(dt.UTC)
        self._file.write_text("0")

    def settle(self, stack: Stack, count: str = _BUSY) -> None:
        """Waits until nothing runs and nothing is due, or until what the statement ``count`` counts is nothing."""
        calm = 0
        while calm < 2:
            time.sleep(0.25)
            calm = calm + 1 if self.counted(stack, count) == 0 else 0

    def counted(self, stack: Stack, count: str) -> int:
        ((found,),) = stack.postgres.execute(count.format(now=self.moment.isoformat()), "ultravect")
        return int(str(found))
