"""What most databases are like: a kind says only where it differs."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import cast

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable, Objection, Reference, Remark
from ultravect.core.contracts.change_log import ChangeLog
from ultravect.core.contracts.source import NewRows
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.target import NEEDS, Database, LoadsTogether, SwapNeeds, Versions
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.dialects.base import TableName
from ultravect.core.loading.key_ranges import key_ranges
from ultravect.core.loading.questions import answer_columns, count_rows

_DESCRIBE_SECONDS = 60.0


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
    needs: Mapping[str, frozenset[str]] = NEEDS

    @property
    def can_isolate(self) -> bool:
        return True

    @property
    def shares_snapshots(self) -> bool:
        return False

    @property
    def stages(self) -> Stages | None:
        return None

    @property
    def together(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[LoadsTogether]] | None:
        return None

    @property
    def windows(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[LoadsTogether]] | None:
        return self.together

    def new_rows(self, table: TableName, since: str) -> NewRows:
        raise NotImplementedError("only asked where keeps_versions")

    def change_log(self, job: str, owner: str, publication: str) -> ChangeLog | None:
        return None

    def references(self) -> Sequence[Reference]:
        return ()

    def ranges(self, table: LiveTable, count: int) -> Sequence[str]:
        return key_ranges(cast(Database, self), table, count)

    def snapshot(self) -> AbstractContextManager[str]:
        return nullcontext("")

    def count(self, name: TableName) -> int | None:
        return count_rows(cast(Database, self), name)

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "rows are deleted and inserted in this database"

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        database = cast(Database, self)
        answer = database.ask(query, 1, _DESCRIBE_SECONDS)
        return answer_columns(database.dialect, zip(answer.columns, answer.natives, strict=True))

    def objection(self, statement: str) -> Objection | None:
        return None  # it can only be tried

    def remarks(self) -> Sequence[Remark]:
        return ()
