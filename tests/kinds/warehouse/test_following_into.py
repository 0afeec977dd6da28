"""A warehouse follows the log of a database, with deletes."""

from __future__ import annotations

from typing import Any

import pytest
from devtools.stack import Stack
from tests.core.stream.conftest import Followed
from tests.kinds.warehouse.conftest import Warehouse


@pytest.mark.parametrize("gone", ["delete", {"flag": "is_gone"}])
def test_a_warehouse_follows_a_log_with_deletes(stack: Stack, warehouse: Warehouse, gone: Any) -> None:
    followed = Followed(stack.postgres)
    followed.into = warehouse.spec()
    followed.sql("CREATE TABLE live_hut (id int PRIMARY KEY, hut text, beds int)")
    followed.sql("INSERT INTO live_hut SELECT g, 'H' || g % 3, g FROM generate_series(1, 40) g")
    table = f"live_hut{'' if gone == 'delete' else '_flagged'}"
    into = {"connection": "board", "table": table.replace("live_hut", "{table}"), "carry": None, "gone": gone}
    upper = warehouse.staged

    def same() -> bool:
        names = ["id", "hut", "beds"]
        shown = ", ".join(f'"{name.upper()}"' if upper else name for name in names)
        where = "" if gone == "delete" else " WHERE NOT coalesce(is_gone, false)"
        return sorted(warehouse.sql(f"SELECT {shown} FROM {warehouse.named(table)}{where}")) == sorted(
            followed.sql("SELECT id, hut, beds FROM live_hut")
        )

    try:
        followed.follow(job := followed.job("live_hut", into=into))
        assert same()
        for statements in (
            "DELETE FROM live_hut WHERE id = 7; UPDATE live_hut SET beds = 90 WHERE id = 8; INSERT INTO live_hut VALUES (100, 'Neu', 1)",
            "UPDATE live_hut SET id = 200 WHERE id = 9; DELETE FROM live_hut WHERE id < 4; INSERT INTO live_hut VALUES (7, 'again', 7)",
            "TRUNCATE live_hut; INSERT INTO live_hut VALUES (8, 'last', 8)",
        ):
            followed.sql(statements)
            followed.follow(job)
            assert same(), statements
    finally:
        followed.close()
        warehouse.sql(f"DROP TABLE IF EXISTS {warehouse.named(table)}")
