"""Testing a lake: whether it can be reached, listed, read and written, and whether two writers are kept apart."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from contextlib import suppress
from urllib.parse import urlsplit

from ultravect.core.contracts.catalogue import TableInfo
from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.settings import LakeSettings
from ultravect.core.kinds.lake.tables import explained, open_version
from ultravect.core.words import counted


def lake_steps(
    place: LakePlace, settings: LakeSettings, tables: Callable[[str, str, int], Sequence[TableInfo]]
) -> Sequence[Step]:
    def reached() -> str:
        with explained(place.name, "the lake"):
            place.files.get_file_info("")
        return f"{settings.path or 's3://' + settings.bucket} is there"

    def listed() -> str:
        return f"{counted(len(tables('', '', 100_000)), 'table')} in it"

    def read() -> str:
        found = tables("", "", 1)
        if not found:
            return "there is no table to read yet"
        path = place.path(found[0].table)
        with explained(place.name, path):
            version = open_version(place, path)
            if version is not None:
                version.dataset.head(1)
        return f"{found[0].name} can be read"

    network = []
    if settings.endpoint:
        parts = urlsplit(settings.endpoint)
        network = network_steps(
            place.name, parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)
        )
    return [
        *network,
        Step("sign in" if settings.bucket else "reach", reached),
        Step("list", listed),
        Step("read", read),
    ]


def write_steps(place: LakePlace) -> Sequence[Step]:
    def written() -> str:
        """A table of one column is made in two commits, of which the second must not take the place of the first."""
        import pyarrow as pa

        from ultravect.core.errors import UltravectError
        from ultravect.core.kinds.lake.tables import Notes, create_table

        path = f"ultravect-test-{secrets.token_hex(6)}"
        schema = pa.schema([pa.field("a", pa.int32())])
        try:
            with explained(place.name, path):
                create_table(place, path, schema, [], [], "", Notes({}, {}))
                older, newer = open_version(place, path), open_version(place, path)
                assert older is not None and newer is not None, "it was made a moment ago"
                newer.commit([], [], Notes({"test": 1}, {}), alone=True)
                try:
                    older.commit([], [], Notes({"test": 2}, {}), alone=True)
                except UltravectError:
                    return "a table was made and removed again; two writers are kept apart"
        finally:
            with suppress(OSError):
                place.files.delete_dir(path)
        raise UltravectError(
            "store-overwrites",
            f"connection {place.name}: the store lets one writer overwrite what another has just written, so that commits could be lost",
            hint="use a store with conditional writes (If-None-Match)",
            connection=place.name,
        )

    return [Step("write", written)]
