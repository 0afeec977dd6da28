"""What most databases are like: a kind says only where it differs."""

from __future__ import annotations

from collections.abc import Sequence

from ultravect.core.contracts.source import NewRows
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.target import Remark, Versions
from ultravect.core.dialects.base import TableName


class UsualDatabase:
    """The capabilities of ``Source`` and ``Target``, as they are where a kind says nothing else."""

    locks_tables = False
    partitions = False
    arranges: frozenset[str] = frozenset()
    enforces_keys = True
    truncates = False
    exclusive_file = ""
    keeps_versions = False
    versions: Versions | None = None

    @property
    def can_isolate(self) -> bool:
        return True

    @property
    def shares_snapshots(self) -> bool:
        return False

    @property
    def stages(self) -> Stages | None:
        return None

    def new_rows(self, table: TableName, since: str) -> NewRows:
        raise NotImplementedError("only asked where keeps_versions")

    def remarks(self) -> Sequence[Remark]:
        return ()
