"""Marks in targets that are files: a note of each job, next to the files."""

from __future__ import annotations

import hashlib
import json
import posixpath
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.storage import NOTE, Storage
from ultravect.core.errors import UltravectError


class MarkNote:
    """The marks of ``job`` in files whose name is made of ``template``: by object, then by item."""

    def __init__(self, storage: Storage, template: str, job: str) -> None:
        self._storage = storage
        folder = posixpath.dirname(template.split("{")[0])
        digest = hashlib.sha256(f"mark of {job} in {template}".encode()).hexdigest()[:24]
        self._path = posixpath.join(folder, f"{NOTE}{digest}.mark")

    def all(self) -> dict[str, dict[str, str]]:
        try:
            with self._storage.open(self._path).stream as stream:
                data: dict[str, dict[str, str]] = json.loads(stream.read())
        except UltravectError as error:
            if error.code != "file-missing":
                raise
            return {}
        return data

    def entries(self, key: MarkKey) -> Mapping[str, str]:
        return self.all().get(key.object, {})

    def write(self, changes: Sequence[MarkChange]) -> None:
        data = self.all()
        for change in changes:
            change.apply(data.setdefault(change.key.object, {}))
        self.store(data)

    def store(self, data: Mapping[str, Mapping[str, str]]) -> None:
        with tempfile.NamedTemporaryFile(prefix="ultravect-mark-") as local:
            local.write(json.dumps(data).encode())
            local.flush()
            self._storage.put(self._path, Path(local.name))
