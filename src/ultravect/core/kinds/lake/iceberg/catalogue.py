"""Catalogues of Iceberg tables, and the files that their tables name: opened only where they are in the place of the connection."""

from __future__ import annotations

import re
import time
from typing import TYPE_CHECKING, Any, NoReturn
from urllib.parse import parse_qsl, unquote, urlsplit

from pydantic import BaseModel
from pyiceberg import io
from pyiceberg.catalog import Catalog
from pyiceberg.catalog.rest import (
    DEFAULT_ENDPOINTS,
    DEFAULT_NAMESPACE_SEPARATOR,
    ConfigResponse,
    Endpoints,
    RestCatalog,
)
from pyiceberg.catalog.rest.response import _handle_non_200_response
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.io import FileIO, InputFile, OutputFile
from pyiceberg.io.pyarrow import PyArrowFile
from pyiceberg.table import Table, locations
from requests import ConnectionError, HTTPError, PreparedRequest, Response, Session
from requests.adapters import HTTPAdapter
from sqlalchemy import URL, create_engine, inspect
from sqlalchemy.pool import NullPool

from ultravect.core.errors import UltravectError
from ultravect.core.inside import leads_out, readings
from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.loading.libpq import TLS_MODES, sign_in_options
from ultravect.core.model.connection import usual_tls

if TYPE_CHECKING:
    from pyiceberg.catalog.sql import IcebergTables

_FILE = "catalogue.sqlite"
_SECONDS = (10, 60)
_ANSWER_SECONDS, _ANSWER_BYTES, _CHUNK = 120.0, 64 << 20, 1 << 16
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
        if path == found or any({"..", "."} & {*reading.split("/")} for reading in readings(path)):
            raise self._place.outside(location)
        self._place.require_inside(path)
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

    def __init__(self, place: LakePlace, name: str, uri: str | URL, options: dict[str, Any], *, create: bool) -> None:
        self.of_place = PlaceFiles(place)
        # this engine is not used: it could not be given the options of sessions
        super().__init__(name, uri="sqlite://", init_catalog_tables="false", warehouse=place.uri(""))
        # a plan is made and forgotten: it must not keep connections
        self.engine.dispose()
        self.engine = create_engine(uri, poolclass=NullPool, connect_args=options)
        self.properties["init_catalog_tables"] = str(create).lower()
        self._init_catalog()

    def _load_file_io(self, properties: Any = None, location: str | None = None) -> FileIO:
        return self.of_place

    def _convert_orm_to_iceberg(self, orm_table: IcebergTables) -> Table:
        # what the catalogue names is read before the table's files are: it must be in the place, too
        self.of_place.path(str(orm_table.metadata_location))
        return super()._convert_orm_to_iceberg(orm_table)


class _InTime(HTTPAdapter):
    """Requests that end, with answers that are not too large."""

    def send(self, request: PreparedRequest, *args: Any, **kwargs: Any) -> Response:
        answer = super().send(request, *args, **{**kwargs, "timeout": _SECONDS, "stream": True})
        body, until = bytearray(), time.monotonic() + _ANSWER_SECONDS
        for chunk in answer.iter_content(_CHUNK):
            body += chunk
            if len(body) > _ANSWER_BYTES or time.monotonic() > until:
                answer.close()
                raise ConnectionError(f"the answer is larger than {_ANSWER_BYTES >> 20} MiB, or takes too long")
        answer._content = bytes(body)
        return answer


class _Answered(BaseModel):
    """What a catalogue says of itself."""

    defaults: dict[str, Any] | None = None
    overrides: dict[str, Any] | None = None
    endpoints: list[str] | None = None


_TAKEN = {"prefix": re.compile(r"[\w.~@:%+=-]+(/[\w.~@:%+=-]+)*"), "namespace-separator": re.compile(r"[^/]{1,12}")}
"""The settings that are taken from a catalogue: how its addresses are written."""


class _Remote(RestCatalog):
    """A catalogue that is asked by HTTP. Credentials that it hands out are not used: those of the connection are."""

    def __init__(self, place: LakePlace, name: str, **properties: str) -> None:
        self.of_place = PlaceFiles(place)
        super().__init__(name, **properties)

    def _fetch_config(self) -> None:
        """Asks the catalogue how its addresses are written. What else it says is not taken: a server chooses no code, address or key."""
        with self._create_session() as session:
            answer = session.get(self.url(Endpoints.get_config, prefixed=False), params=self._asked)
        if not answer.ok:
            _handle_non_200_response(HTTPError(response=answer), {})
        said = _Answered.model_validate_json(answer.content)
        for settings in (said.defaults or {}, said.overrides or {}):
            for name, form in _TAKEN.items():
                value = settings.get(name)
                if isinstance(value, str) and form.fullmatch(value) and not leads_out(value):
                    self.properties[name] = value
        known = ConfigResponse.model_validate({"endpoints": said.endpoints}).endpoints
        self._supported_endpoints = set(known or DEFAULT_ENDPOINTS)
        self._namespace_separator = unquote(self.properties.get("namespace-separator", DEFAULT_NAMESPACE_SEPARATOR))

    @property
    def _asked(self) -> dict[str, str]:
        return {name: value for name, value in self.properties.items() if name == "warehouse"}

    def _create_session(self) -> Session:
        session = super()._create_session()
        session.max_redirects = 0
        # no proxy and no password of this machine's own files
        session.trust_env = False
        for scheme in ("http://", "https://"):
            session.mount(scheme, _InTime())
        return session

    def _load_file_io(self, properties: Any = None, location: str | None = None) -> FileIO:
        return self.of_place


_IMPORTED = io._import_file_io


def _known_alone(named: str, *arguments: Any) -> FileIO | None:
    if not named.startswith("pyiceberg.io."):
        _imports_nothing(named)
    return _IMPORTED(named, *arguments)


def _imports_nothing(named: str, *_: Any) -> NoReturn:
    raise UltravectError(
        "table-feature",
        f"a setting names the program {named[:100]!r}, which is not run here",
        hint="use a table, and a catalogue, without such a setting",
    )


# classes that settings of catalogues and tables name: their libraries would import them, and anyone may have set them
locations._import_location_provider, io._import_file_io = _imports_nothing, _known_alone  # type: ignore[assignment]


def _tables_made(catalogue: _Listed) -> bool:
    return bool(inspect(catalogue.engine).has_table("iceberg_tables"))


def open_catalogue(place: LakePlace, settings: LakeSettings, *, create: bool = False) -> Catalog | None:
    """The catalogue of a connection; ``create``: makes what it lacks. None where it has no tables because it was not made yet."""
    given, name, secret = settings.catalogue, settings.catalogue_name, str(settings.catalogue_secret)
    if "://" not in given:
        place.require_inside(given or _FILE)
        file = f"{place.uri('').removeprefix('file://').rstrip('/')}/{given or _FILE}"
        known = place.files.get_file_info(given or _FILE).is_file
        if not known and not create:
            return None
        return _Listed(place, name, f"sqlite:///{file}", {"timeout": _LOCK_SECONDS}, create=create)
    if given.startswith("postgresql://"):
        listed = _Listed(place, name, *_database(given, secret), create=create)
        return listed if create or _tables_made(listed) else None
    token = {"token": secret} if secret else {}
    warehouse = {} if name == "default" else {"warehouse": name}
    return _Remote(place, name, uri=given, **token, **warehouse)


def _database(given: str, secret: str) -> tuple[URL, dict[str, Any]]:
    """The address of a database as its library takes it, of which only what is known was taken; and the options of its sessions."""
    parts = urlsplit(given)
    host = parts.hostname or ""
    tls = {mode: tls for tls, mode in TLS_MODES.items()}.get(dict(parse_qsl(parts.query)).get("sslmode", ""))
    options = {**sign_in_options(tls or usual_tls(host)), "connect_timeout": _SECONDS[0]}
    address = URL.create(
        "postgresql+psycopg",
        unquote(parts.username or "") or None,
        secret or None,
        host,
        parts.port,
        unquote(parts.path.lstrip("/")) or None,
    )
    return address, options


def with_our_rules(table: Table) -> Table:
    """The table with a setting of ours, for this process alone; what is committed to it has its own settings."""
    table.metadata = table.metadata.model_copy(update={"properties": {**table.metadata.properties, **_NO_RETRIES}})
    return table
