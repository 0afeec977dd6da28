"""The four databases, with the same table of extreme values in each."""

from __future__ import annotations

import pytest
from devtools.mariadb import MariadbServer
from devtools.pairs import Place, make_places
from devtools.stack import Stack


@pytest.fixture(scope="session")
def places(stack: Stack, mariadb: MariadbServer, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Place]:
    return make_places(stack.postgres, "warehouse", mariadb, tmp_path_factory.mktemp("pairs"))
