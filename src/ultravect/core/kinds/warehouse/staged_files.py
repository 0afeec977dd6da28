"""The files of one load or one read in the bucket: a folder of its own, which is removed at the end, whatever that is."""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa
import pyarrow.fs as pafs
import pyarrow.parquet as pq
from pydantic import BaseModel

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse.kind import WarehouseSettings
from ultravect.core.loading.bucket import bucket_files

_COPY_BYTES = 8 << 20
_BATCH_ROWS = 50_000
_MAX_MANIFEST = 64 << 20
_WAIT_SECONDS, _POLL_SECONDS = 60.0, 0.2
PART = "part_"
"""Begins the names of files that are unloaded."""


@dataclass(frozen=True)
class Unloaded:
    """A file that the warehouse says it has written: its name in the folder, and how large it is."""

    name: str
    rows: int
    size: int


class _Meta(BaseModel):
    content_length: int
    record_count: int


class _Entry(BaseModel):
    url: str
    meta: _Meta


class _Manifest(BaseModel):
    """What an unload writes with MANIFEST VERBOSE, as far as it is needed."""

    entries: list[_Entry]


class StagedFiles:
    """Files below one folder of the staging place."""

    def __init__(self, connection: str, settings: WarehouseSettings) -> None:
        self._connection, self._settings = connection, settings
        self._files = bucket_files(settings)
        self.folder = f"staged-{secrets.token_hex(8)}"
        self._stored: list[tuple[str, int]] = []
        self._named: set[str] = set()

    @property
    def names(self) -> Sequence[str]:
        """The files that were stored."""
        return [name for name, _ in self._stored]

    def url(self, name: str) -> str:
        """The address of a file, as the warehouse takes it."""
        parts = [self._settings.bucket, self._settings.prefix.strip("/"), self.folder, name]
        return "s3://" + "/".join(parts)

    def store(self, name: str, local: Path) -> None:
        """Uploads a file."""
        path = f"{self.folder}/{name}"
        with self._explained(f"uploading {name}"):
            pafs.copy_files(
                str(local), path, pafs.LocalFileSystem(), self._files, chunk_size=_COPY_BYTES, use_threads=False
            )
        self._stored.append((name, local.stat().st_size))
        self._named.add(f"{self.folder}/{name}")

    def store_manifest(self) -> str:
        """Stores the list of the files, each of which must be there, and gives its address."""
        entries = [
            {"url": self.url(name), "mandatory": True, "meta": {"content_length": size}}
            for name, size in self._stored
        ]
        with (
            self._explained("uploading the manifest"),
            self._files.open_output_stream(f"{self.folder}/manifest") as out,
        ):
            out.write(json.dumps({"entries": entries}).encode())
        self._named.add(f"{self.folder}/manifest")
        return self.url("manifest")

    def unloaded_manifest(self) -> Sequence[Unloaded]:
        """What the manifest of an unload names; UltravectError where it is not there, or names what is elsewhere."""
        path = f"{self.folder}/{PART}manifest"
        self._await([path])
        with self._explained("reading the manifest of what was unloaded"), self._files.open_input_file(path) as file:
            if file.size() > _MAX_MANIFEST:
                raise ValueError("it is too large")
            said = _Manifest.model_validate_json(file.read())
        return [
            self.unloaded(entry.url, entry.meta.record_count, entry.meta.content_length) for entry in said.entries
        ]

    def unloaded(self, address: str, rows: int, size: int) -> Unloaded:
        """A file that the warehouse names, which has to be one of this folder."""
        name = address.rpartition("/")[2]
        if not name or name.startswith(".") or (address.startswith("s3://") and address != self.url(name)):
            raise self._failed(
                f"the warehouse says that it has written {address[:300]!r}, which is not where it was to write"
            )
        return Unloaded(name, rows, size)

    def _await(self, paths: Sequence[str]) -> None:
        """Waits for files that were named: what a store lists may be older than what it has."""
        until = time.monotonic() + _WAIT_SECONDS
        while True:
            with self._explained("looking for what was unloaded"):
                found = self._files.get_file_info(list(paths))
            missing = [info.path for info in found if info.type != pafs.FileType.File]
            if not missing:
                self._named.update(paths)
                return
            if time.monotonic() >= until:
                raise self._failed(f"the warehouse has written {missing[0]}, and it is not there")
            time.sleep(_POLL_SECONDS)

    def _failed(self, what: str) -> UltravectError:
        return UltravectError(
            "unloaded-rows-missing",
            f"connection {self._connection}: {what}; nothing was written",
            hint="see whether others remove files from the staging place, then run again",
            connection=self._connection,
        )

    def batches(self, unloaded: Sequence[Unloaded]) -> Iterator[pa.Table]:
        """The rows of the files that the warehouse says it has written here, in pieces; UltravectError where they are others."""
        if unloaded:
            self._await([f"{self.folder}/{item.name}" for item in unloaded])
        for item in unloaded:
            path = f"{self.folder}/{item.name}"
            doing = f"reading {path}"
            with self._explained(doing):
                file = self._files.open_input_file(path)
            with file:
                with self._explained(doing):
                    held, size = pq.ParquetFile(file), file.size()
                    if (held.metadata.num_rows, size) != (item.rows, item.size):
                        raise self._failed(
                            f"the warehouse says that {path} has {item.rows:,} rows and {item.size:,} bytes, and it has "
                            f"{held.metadata.num_rows:,} and {size:,}"
                        )
                    batches = held.iter_batches(_BATCH_ROWS)
                while True:
                    with self._explained(doing):
                        batch = next(batches, None)
                    if batch is None:
                        break
                    yield pa.Table.from_batches([batch])

    def _listed(self) -> Sequence[pafs.FileInfo]:
        found = self._files.get_file_info(pafs.FileSelector(self.folder, allow_not_found=True, recursive=True))
        return [info for info in found if info.type == pafs.FileType.File]

    def remove(self) -> None:
        """Removes all files of the folder; an object store has no folders but in the names of its objects."""
        with self._explained("removing staged files"):
            # a list may be late: what is known by its name is removed without one
            for path in sorted(self._named | {info.path for info in self._listed()}):
                with suppress(FileNotFoundError):
                    self._files.delete_file(path)

    def try_out(self) -> None:
        """Stores a small file; UltravectError says what the store refused."""
        with self._explained("storing a file"), self._files.open_output_stream(f"{self.folder}/test") as out:
            out.write(b"test")

    @contextmanager
    def _explained(self, doing: str) -> Iterator[None]:
        try:
            yield
        except (OSError, pa.ArrowException, ValueError) as error:
            text = " ".join(str(error).split())[:300]
            for secret in (self._settings.secret_key, self._settings.session_token):
                text = text.replace(str(secret), "…") if secret else text
            raise UltravectError(
                "staging-unreachable",
                f"connection {self._connection}, while {doing} in bucket {self._settings.bucket}: {text}",
                hint="check bucket, endpoint, region and key, and what the key may do",
                connection=self._connection,
            ) from None


@contextmanager
def staged_files(connection: str, settings: WarehouseSettings) -> Iterator[StagedFiles]:
    """A folder for as long as the context lasts."""
    files = StagedFiles(connection, settings)
    try:
        yield files
    finally:
        # what has happened is said already, or the rows are there: then a folder is left in the bucket
        with suppress(UltravectError):
            files.remove()


def access(settings: WarehouseSettings, literal: Callable[[str], str]) -> str:
    """How the warehouse may reach the bucket, as part of a statement."""
    if settings.role:
        return f"IAM_ROLE {literal(settings.role)}"
    key = f"ACCESS_KEY_ID {literal(settings.access_key)} SECRET_ACCESS_KEY {literal(str(settings.secret_key))}"
    return key + (f" SESSION_TOKEN {literal(str(settings.session_token))}" if settings.session_token else "")
