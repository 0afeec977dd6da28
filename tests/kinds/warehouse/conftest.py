"""A warehouse for the tests: the stand-in in front of a PostgreSQL, and our object store in its bucket's place."""

from __future__ import annotations

import secrets
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import pytest
from demo.objectstore import ObjectStore
from devtools.postgres import PostgresServer
from standins.warehouse import WarehouseStandIn

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.kinds.warehouse.database import WarehouseDatabase
from ultravect.core.kinds.warehouse.kind import WarehouseSettings

BUCKET = "staging"
ROLE = "arn:aws:iam::000000000000:role/loads"


@dataclass
class Warehouse:
    settings: dict[str, Any]
    stand_in: WarehouseStandIn
    store: ObjectStore
    url: str

    @property
    def staged(self) -> bool:
        """Whether it is of the form with stages, which folds names to upper case."""
        return self.settings.get("form") == "stage"

    def named(self, table: str) -> str:
        """A table as PostgreSQL itself is asked for it."""
        return f'"PUBLIC"."{table.upper()}"' if self.staged else table

    def database(self, **changed: Any) -> WarehouseDatabase:
        return WarehouseDatabase("board", WarehouseSettings(**{**self.settings, **changed}), [])

    def spec(self, **changed: Any) -> ConnectionSpec:
        return ConnectionSpec("board", "warehouse", {**self.settings, **changed})

    def sql(self, statement: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.url, autocommit=True) as opened:
            cursor = opened.execute(statement.encode())
            return cursor.fetchall() if cursor.description else []

    def left(self) -> list[str]:
        """What is left in the bucket."""
        return [str(path) for path in (self.store.folder / BUCKET).rglob("*") if path.is_file()]


@pytest.fixture(scope="session", params=["manifest", "stage"])
def warehouse(request: pytest.FixtureRequest) -> Iterator[Warehouse]:
    folder = Path(tempfile.mkdtemp(prefix="ultravect-warehouse-", dir="/var/tmp"))
    folder.chmod(0o755)
    postgres = PostgresServer.create(folder / "pg", durable=False)
    postgres.execute("CREATE DATABASE board")
    (folder / "buckets" / BUCKET).mkdir(parents=True)
    store = ObjectStore(folder / "buckets", "AKSTAGE", secrets.token_urlsafe(20)).run()
    given = store.settings(BUCKET)
    stages = {"LOADS": f"{BUCKET}/ultravect", "ELSEWHERE": f"{BUCKET}/other"} if request.param == "stage" else {}
    stand_in = WarehouseStandIn(
        postgres.url("board"), store.folder, given["access_key"], given["secret_key"], role=ROLE, stages=stages
    )
    settings = {
        "host": "127.0.0.1",
        "port": stand_in.port,
        "database": "board",
        "user": "postgres",
        "password": postgres.password,
        "tls": "off",
        "bucket": BUCKET,
        "endpoint": given["endpoint"],
        "access_key": given["access_key"],
        "secret_key": given["secret_key"],
        **({"form": "stage", "stage": "loads"} if stages else {}),
    }
    yield Warehouse(settings, stand_in, store, postgres.url("board"))
    store.shutdown()
    stand_in.close()
    postgres.remove()
    shutil.rmtree(folder, ignore_errors=True)
