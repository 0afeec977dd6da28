"""A warehouse that stages in the bucket of another connection: through the service, its client and its command line."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from devtools.stack import Stack
from tests.conftest import Place
from tests.kinds.warehouse.conftest import BUCKET, ROLE, Warehouse

from ultravect.client import ApiError, Client

PROGRAM = str(Path(sys.executable).parent / "ultravect")
_BUCKET = ("bucket", "endpoint", "access_key", "secret_key")


@pytest.fixture
def names(warehouse: Warehouse, client: Client, place: Place) -> Iterator[tuple[str, str]]:
    """The names of a bucket's connection and of a warehouse that stages in it."""
    bucket, board = f"loads-{place.name}", f"board-{place.name}"
    client.add_connection(
        bucket, "objectstore", {key: warehouse.settings[key] for key in _BUCKET} | {"prefix": "ultravect/"}
    )
    yield bucket, board
    for name in (board, bucket):
        if name in [item.name for item in client.connections()]:
            client.remove_connection(name)


def _settings(warehouse: Warehouse, bucket: str) -> dict[str, Any]:
    own = {key: value for key, value in warehouse.settings.items() if key not in _BUCKET}
    return {**own, "staging": bucket, "prefix": "board/", **({} if warehouse.staged else {"role": ROLE})}


def test_rows_are_staged_in_the_other_connection_s_bucket(
    warehouse: Warehouse, client: Client, place: Place, names: tuple[str, str]
) -> None:
    bucket, board = names
    client.add_connection(board, "warehouse", _settings(warehouse, bucket))
    warehouse.stand_in.stages["LOADS"] = f"{BUCKET}/ultravect/board"
    try:
        assert client.test_connection(board, write=True).error is None
        place.file("id,hut\n1,ALP\n")
        client.save_job(
            place.name,
            f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: {place.name}.csv}}\n"
            f"into: {{connection: {board}, table: staged_{place.name}}}\n",
        )
        run = client.wait(client.run(place.name).id)
        assert (run.state, run.error) == ("succeeded", None)
        assert warehouse.sql(f"SELECT * FROM {warehouse.named(f'staged_{place.name}')}") == [(1, "ALP")]
        assert warehouse.left() == []
        # what is shown has neither key nor bucket, and the bucket stays while it is named
        shown = next(item for item in client.connections() if item.name == board)
        assert shown.settings["staging"] == bucket
        assert not {"bucket", "access_key", "secret_key"} & set(shown.settings)
        with pytest.raises(ApiError) as raised:
            client.remove_connection(bucket)
        assert (raised.value.code, board in raised.value.detail) == ("connection-in-use", True)
        client.remove_job(place.name)
    finally:
        warehouse.stand_in.stages["LOADS"] = f"{BUCKET}/ultravect"


def _without_role(settings: dict[str, Any]) -> dict[str, Any]:
    return {**settings, "form": "manifest", "stage": "", "role": ""}


REFUSED: list[tuple[dict[str, Any], str]] = [
    ({"staging": "nowhere"}, "there is no connection 'nowhere'"),
    ({"staging": "warehouse"}, "is of kind postgresql"),
    ({"bucket": "other"}, "leave bucket out"),
    ({"form": "manifest", "stage": "", "role": ""}, "staging needs role"),
]


@pytest.mark.parametrize(("changed", "said"), REFUSED)
def test_what_does_not_fit_is_refused(
    warehouse: Warehouse, client: Client, names: tuple[str, str], changed: dict[str, Any], said: str
) -> None:
    bucket, board = names
    with pytest.raises(ApiError) as raised:
        client.add_connection(board, "warehouse", {**_settings(warehouse, bucket), **changed})
    assert said in str(raised.value.errors)
    assert board not in [item.name for item in client.connections()]


def test_a_folder_saves_the_bucket_first_and_removes_it_last(
    warehouse: Warehouse, client: Client, stack: Stack, names: tuple[str, str], tmp_path: Path
) -> None:
    bucket, board = names
    client.add_connection(board, "warehouse", _settings(warehouse, bucket))
    environment = os.environ | {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token}
    (tmp_path / "declared").mkdir()
    for name in names:
        (tmp_path / "declared" / f"{name}.yaml").write_text(client.connection_file(name))
    client.remove_connection(board)
    client.remove_connection(bucket)
    done = subprocess.run(
        [PROGRAM, "save", str(tmp_path / "declared")], env=environment, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout + done.stderr
    assert done.stdout.index(bucket) < done.stdout.index(board)
