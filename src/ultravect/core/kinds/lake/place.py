"""Where a lake is: a folder that is confined to the service's roots, or a bucket of an object store."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from pathlib import Path

import pyarrow.fs as pafs

from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.inside import inside, leads_out, within
from ultravect.core.kinds.lake.confined import ConfinedFiles
from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.table_version import LakeFormat, TableVersion
from ultravect.core.loading.bucket import bucket_files
from ultravect.core.loading.local.local_file import folder_inside

_CONNECT_SECONDS, _ANSWER_SECONDS = 10, 60


class LakePlace:
    """Files of the tables of one connection, by paths below it; ``format_of`` gives the format that its tables have."""

    def __init__(
        self,
        name: str,
        settings: LakeSettings,
        roots: Sequence[str],
        format_of: Callable[[LakePlace, LakeSettings], LakeFormat],
    ) -> None:
        self.name, self._settings, self._format_of = name, settings, format_of
        self._roots = [Path(root).resolve() for root in roots]

    @cached_property
    def format(self) -> LakeFormat:
        return self._format_of(self, self._settings)

    @property
    def is_folder(self) -> bool:
        return bool(self._settings.path)

    def _folder(self) -> Path:
        return folder_inside(self.name, self._settings.path, self._roots)

    @cached_property
    def files(self) -> pafs.FileSystem:
        """The files, with paths below the place; UltravectError where it cannot be reached."""
        settings = self._settings
        if self.is_folder:
            return pafs.PyFileSystem(ConfinedFiles(self._folder(), self.outside))
        return bucket_files(settings)

    @cached_property
    def data_files(self) -> pafs.FileSystem:
        """The same for files that ``require_all_inside`` has looked at: a reader opens them from threads of its own, which run no Python."""
        return pafs.SubTreeFileSystem(str(self._folder()), pafs.LocalFileSystem()) if self.is_folder else self.files

    def outside(self, named: str) -> UltravectError:
        """The error for a table that names ``named``, which is not in the place."""
        return UltravectError(
            "lake-outside",
            f"connection {self.name}: the table names {named[:200]!r}, which is not in the place of the connection",
            hint="let the connection's folder or bucket be the one that has the table's files",
            connection=self.name,
        )

    def require_inside(self, path: str) -> None:
        """UltravectError ``lake-outside`` for a path below the place that leads out of it, links of a folder included."""
        try:
            outside = inside(self._folder(), path) is None if self.is_folder else leads_out(path)
        except (OSError, RuntimeError, ValueError):
            outside = True  # links in a circle, or no path at all
        if outside:
            raise self.outside(path)

    def require_all_inside(self, paths: Iterable[str]) -> None:
        """The same for many paths: each folder is looked at once."""
        folders = dict[str, bool]()
        for path in paths:
            if not self.is_folder:
                self.require_inside(path)
                continue
            above = path.rpartition("/")[0]
            if above not in folders:
                self.require_inside(above or ".")
                folders[above] = True
            if leads_out(path) or os.path.islink(f"{self._root}/{path}"):
                self.require_inside(path)

    @cached_property
    def _root(self) -> str:
        return str(self._folder())

    def require_links_inside(self, path: str) -> None:
        """The same for all links in a folder and the folders in it: before a library reads or removes what it finds there by itself."""
        if not self.is_folder:
            return
        self.require_inside(path)
        for above, folders, files in os.walk(self._folder() / path):
            for name in (*folders, *files):
                found = Path(above, name)
                if found.is_symlink() and within(found, [self._folder()]) is None:
                    raise self.outside(str(found))

    def reach(self) -> str:
        """Where the place is, once it was reached; UltravectError where it is not there."""
        settings = self._settings
        if self.is_folder:
            return str(self._folder())
        assert isinstance(self.files, pafs.SubTreeFileSystem)
        if self.files.base_fs.get_file_info(settings.bucket).type == pafs.FileType.NotFound:
            raise UltravectError(
                "bucket-missing",
                f"connection {self.name}: there is no bucket {settings.bucket!r}, or the key may not see it",
                hint="check the bucket for typing errors, and what the key may do",
                connection=self.name,
            )
        return self.uri("")

    def uri(self, path: str) -> str:
        """The address of a table, as the library of the format takes it."""
        if self.is_folder:
            return f"{self._folder()}/{path}"
        return "s3://" + "/".join(
            part for part in (self._settings.bucket, self._settings.prefix.strip("/"), path) if part
        )

    @property
    def options(self) -> Mapping[str, str]:
        """What the library needs to reach the object store."""
        settings = self._settings
        if self.is_folder:
            return {}
        options = {
            "AWS_ACCESS_KEY_ID": settings.access_key,
            "AWS_SECRET_ACCESS_KEY": str(settings.secret_key),
            "AWS_REGION": settings.region,
            # a version of a table is written only where there is none yet; a store that cannot say so is refused before
            "conditional_put": "etag",
            "connect_timeout": f"{_CONNECT_SECONDS}s",
            "timeout": f"{_ANSWER_SECONDS}s",
        }
        if settings.session_token:
            options["AWS_SESSION_TOKEN"] = str(settings.session_token)
        if settings.endpoint:
            options["AWS_ENDPOINT_URL"] = settings.endpoint
            options["AWS_ALLOW_HTTP"] = str(settings.endpoint.startswith("http://")).lower()
        return options

    def path(self, table: TableName) -> str:
        """The path of a table; UltravectError for a name that would lead out of the place."""
        path = f"{table.schema}/{table.name}" if table.schema else table.name
        if (
            any(part in ("", ".", "..") or part.startswith("_") for part in path.split("/"))
            or "\\" in path
            or "\0" in path
        ):
            raise UltravectError(
                "table-name",
                f"connection {self.name}: {str(table)!r} is no name of a table: its parts are folders, which do not begin with _",
                hint="name it as `ultravect look` lists it",
                table=str(table),
            )
        return path

    def make_folder(self, path: str) -> None:
        """Makes a folder, where there are any: an object store has only the names of its objects."""
        if self.is_folder:
            self.files.create_dir(path, recursive=True)

    def write_obstacle(self) -> str:
        """Why nothing can be written here; "" where it can, as far as that is known without trying."""
        if not self.is_folder:
            return ""
        folder = self._folder()
        return "" if os.access(folder, os.W_OK) else f"the service may not write to the folder {folder}"


def open_version(place: LakePlace, path: str, at: str = "") -> TableVersion | None:
    """A table, in its newest version or in that of ``at``; None where there is none."""
    return place.format.open(path, at)
