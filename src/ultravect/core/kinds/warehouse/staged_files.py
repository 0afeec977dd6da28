"""The files of one load or one read in the bucket: a folder of its own, which is removed at the end, whatever that is."""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import pyarrow as pa
import pyarrow.fs as pafs
import pyarrow.parquet as pq

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse.settings import WarehouseSettings
from ultravect.core.loading.bucket import bucket_files

_COPY_BYTES = 8 << 20
_BATCH_ROWS = 50_000


class StagedFiles:
    """Files below one folder of the staging place."""

    def __init__(self, connection: str, settings: WarehouseSettings) -> None:
        self._connection, self._settings = connection, settings
        self._files = bucket_files(settings)
        self.folder = f"staged-{secrets.token_hex(8)}"
        self._stored: list[tuple[str, int]] = []

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
        return self.url("manifest")

    def batches(self) -> Iterator[pa.Table]:
        """The rows of all files that the warehouse has written here, in pieces."""
        with self._explained("listing what was unloaded"):
            found = self._listed()
        for info in sorted(found, key=lambda info: str(info.path)):
            if not str(info.path).endswith(".parquet"):
                continue
            doing = f"reading {info.path}"
            with self._explained(doing):
                file = self._files.open_input_file(info.path)
            with file:
                with self._explained(doing):
                    batches = pq.ParquetFile(file).iter_batches(_BATCH_ROWS)
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
            for info in self._listed():
                self._files.delete_file(info.path)

    def try_out(self) -> None:
        """Stores a small file; UltravectError says what the store refused."""
        with self._explained("storing a file"), self._files.open_output_stream(f"{self.folder}/test") as out:
            out.write(b"test")

    @contextmanager
    def _explained(self, doing: str) -> Iterator[None]:
        try:
            yield
        except (OSError, pa.ArrowException) as error:
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
