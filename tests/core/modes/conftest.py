"""Storages that files are written into: a folder, and servers that are started for the tests."""

from __future__ import annotations

from pathlib import Path

import pytest
from demo.objectstore import ObjectStore
from devtools.sshd import SshServer
from tests.core.modes.exports import Export

from ultravect.core.engine.objects.connections import ConnectionSpec


@pytest.fixture(params=["folder", "sftp", "objectstore"])
def export(request: pytest.FixtureRequest, tmp_path: Path) -> Export:
    target, source = tmp_path / "exports", tmp_path / "incoming"
    target.mkdir()
    source.mkdir()
    match request.param:
        case "folder":
            spec = ConnectionSpec("exports", "folder", {"path": str(target)}, [str(target)])
        case "sftp":
            server: SshServer = request.getfixturevalue("ssh")
            spec = ConnectionSpec("exports", "sftp", server.settings(folder=str(target)))
        case _:
            store: ObjectStore = request.getfixturevalue("store")
            (store.folder / "exports").mkdir(exist_ok=True)
            settings = store.settings("exports", prefix=f"{tmp_path.name}/")
            return Export(ConnectionSpec("exports", "objectstore", settings), source)
    return Export(spec, source, target)
