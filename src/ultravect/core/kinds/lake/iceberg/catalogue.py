"""Catalogues of Iceberg tables, and the files that their tables name: opened only where they are in the place of the connection."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlsplit

from pyiceberg.catalog import Catalog
from pyiceberg.catalog.rest import RestCatalog
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.io import FileIO, InputFile, OutputFile
from pyiceberg.io.pyarrow import PyArrowFile
from pyiceberg.table import Table
from requests import PreparedRequest, Response, Session
from requests.adapters import HTTPAdapter
from sqlalchemy import create_engine, inspect
from sqlalchemy.pool import NullPool

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.settings import LakeSettings

if TYPE_CHECKING:
    from pyiceberg.catalog.sql import IcebergTables

_FILE = "catalogue.sqlite"
_SECONDS = (10, 60)
_LOCK_SECONDS = 30
# a commit is not tried again without looking at the table anew
_NO_RETRIES = {"commit.retry.num-retries": "0"}


class PlaceFiles(FileIO):
    """The files of a place, by the addresses that tables name; UltravectError ``lake-outside`` for any other."""

    def __init__(self, place: LakePlace) -> None:
        super().__init__({})
        self._place = place

    def path(self, location: str) -> str:
        """The path below the place."""
        root = self._place.uri("").removeprefix("file://").rstrip("/")
        found = location
        for scheme in ("file://", "file:"):
            if self._place.is_folder and found.startswith(scheme):
                found = found.removeprefix(scheme)
        if not self._place.is_folder:
            scheme, _, rest = found.partition("://")
            found = f"s3://{rest}" if scheme in ("s3", "s3a", "s3n") else found
        path = found.removeprefix(f"{root}/")
        if path == found or any(part in ("..", ".") for part in path.split("/")) or "\0" in path:
            raise UltravectError(
                "lake-outside",
                f"connection {self._place.name}: the table names {location[:200]}, which is not in the place of the connection",
                hint="let the connection's folder or bucket be the one that has the table's files",
                connection=self._place.name,
            )
        return path

    def new_input(self, location: str) -> InputFile:
        return PyArrowFile(location, self.path(location), self._place.files)

    def new_output(self, location: str) -> OutputFile:
        path = self.path(location)
        self._place.make_folder(path.rpartition("/")[0])
        return PyArrowFile(location, path, self._place.files)

    def delete(self, location: str | InputFile | OutputFile) -> None:
        self._place.files.delete_file(self.path(location if isinstance(location, str) else location.location))


class _Listed(SqlCatalog):
    """A catalogue in a database."""

    def __init__(self, place: LakePlace, name: str, uri: str, options: dict[str, Any], *, create: bool) -> None:
        self.of_place = PlaceFiles(place)
        super().__init__(name, uri=uri, init_catalog_tables=str(create).lower(), warehouse=place.uri(""))
        # a plan is made and forgotten: it must not keep connections
        self.engine.dispose()
        self.engine = create_engine(uri, poolclass=NullPool, connect_args=options)

    def _load_file_io(self, properties: Any = None, location: str | None = None) -> FileIO:
        return self.of_place

    def _convert_orm_to_iceberg(self, orm_table: IcebergTables) -> Table:
        # what the catalogue names is read before the table's files are: it must be in the place, too
        self.of_place.path(str(orm_table.metadata_location))
        return super()._convert_orm_to_iceberg(orm_table)


class _InTime(HTTPAdapter):
    """Requests that end."""

    def send(self, request: PreparedRequest, *args: Any, **kwargs: Any) -> Response:
        kwargs["timeout"] = _SECONDS
        return super().send(request, *args, **kwargs)


class _Remote(RestCatalog):
    """A catalogue that is asked by HTTP. Credentials that it hands out are not used: those of the connection are."""

    def __init__(self, place: LakePlace, name: str, **properties: str) -> None:
        self.of_place = PlaceFiles(place)
        super().__init__(name, **properties)

    def _create_session(self) -> Session:
        session = super()._create_session()
        session.max_redirects = 0
        for scheme in ("http://", "https://"):
            session.mount(scheme, _InTime())
        return session

    def _load_file_io(self, properties: Any = None, location: str | None = None) -> FileIO:
        return self.of_place


def _tables_made(catalogue: _Listed) -> bool:
    return bool(inspect(catalogue.engine).has_table("iceberg_tables"))


def open_catalogue(place: LakePlace, settings: LakeSettings, *, create: bool = False) -> Catalog | None:
    """The catalogue of a connection; ``create``: makes what it lacks. None where it has no tables because it was not made yet."""
    given, name, secret = settings.catalogue, settings.catalogue_name, str(settings.catalogue_secret)
    if "://" not in given:
        file = f"{place.uri('').removeprefix('file://').rstrip('/')}/{given or _FILE}"
        known = place.files.get_file_info(given or _FILE).is_file
        if not known and not create:
            return None
        return _Listed(place, name, f"sqlite:///{file}", {"timeout": _LOCK_SECONDS}, create=create)
    if given.startswith("postgresql://"):
        parts = urlsplit(given)
        user = quote(parts.username or "", safe="")
        who = f"{user}:{quote(secret, safe='')}" if secret else user
        where = parts.netloc.rpartition("@")[2]
        uri = f"postgresql+psycopg://{who}@{where}{parts.path}" + (f"?{parts.query}" if parts.query else "")
        listed = _Listed(place, name, uri, {"connect_timeout": _SECONDS[0]}, create=create)
        return listed if create or _tables_made(listed) else None
    token = {"token": secret} if secret else {}
    warehouse = {} if name == "default" else {"warehouse": name}
    return _Remote(place, name, uri=given, **token, **warehouse)


def with_our_rules(table: Table) -> Table:
    """The table with a setting of ours, for this process alone; what is committed to it has its own settings."""
    table.metadata = table.metadata.model_copy(update={"properties": {**table.metadata.properties, **_NO_RETRIES}})
    return table
