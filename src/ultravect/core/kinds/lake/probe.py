"""Testing a lake: whether it can be reached, listed, read and written, and whether two writers are kept apart."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from contextlib import suppress
from urllib.parse import urlsplit

import boto3
import pyarrow as pa
from botocore.config import Config
from botocore.exceptions import BotoCoreError, ClientError

from ultravect.core.contracts.catalogue import TableInfo
from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.loads.commits import Notes
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.words import counted


def lake_steps(
    place: LakePlace, settings: LakeSettings, tables: Callable[[str, str, int], Sequence[TableInfo]]
) -> Sequence[Step]:
    def reached() -> str:
        with explained(place.name, "the lake"):
            return f"{place.reach()} is there"

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


def write_steps(place: LakePlace, settings: LakeSettings) -> Sequence[Step]:
    steps = [Step("write", lambda: _written(place))]
    if settings.bucket:
        steps.append(Step("conditional write", lambda: _conditional(place, settings)))
    return steps


def _written(place: LakePlace) -> str:
    """A table of one column is made in two commits, and removed."""
    path = f"ultravect-test-{secrets.token_hex(6)}"
    try:
        with explained(place.name, path):
            place.format.create(
                path, place.format.new_schema(path, [pa.field("a", pa.int32())]), [], [], "", Notes({}, {})
            )
            version = open_version(place, path)
            assert version is not None, "it was made a moment ago"
            version.commit([], [], Notes({"test": 1}, {}), alone=True)
    finally:
        with suppress(OSError):
            place.files.delete_dir(path)
    return "a table was made and removed again"


def _conditional(place: LakePlace, settings: LakeSettings) -> str:
    """An object is written twice, only where there is none: by that, two writers of one version are kept apart."""
    store = boto3.client(
        "s3",
        endpoint_url=settings.endpoint,
        region_name=settings.region,
        aws_access_key_id=settings.access_key,
        aws_secret_access_key=str(settings.secret_key),
        aws_session_token=str(settings.session_token) or None,
        config=Config(
            connect_timeout=10, read_timeout=30, retries={"max_attempts": 2}, s3={"addressing_style": "path"}
        ),
    )
    key = "/".join(part for part in (settings.prefix.strip("/"), f"ultravect-test-{secrets.token_hex(6)}") if part)
    try:
        store.put_object(Bucket=settings.bucket, Key=key, Body=b"1", IfNoneMatch="*")
        try:
            store.put_object(Bucket=settings.bucket, Key=key, Body=b"2", IfNoneMatch="*")
        except ClientError as error:
            if error.response["ResponseMetadata"]["HTTPStatusCode"] in (409, 412):
                return "what is there is not written over: two writers are kept apart"
            raise
    except (BotoCoreError, ClientError) as error:
        raise UltravectError(
            "lake-unreachable",
            f"connection {place.name}: an object cannot be written: {str(error)[:300]}",
            hint="have the key's owner allowed to write and remove objects",
            connection=place.name,
        ) from None
    finally:
        with suppress(BotoCoreError, ClientError):
            store.delete_object(Bucket=settings.bucket, Key=key)
    raise UltravectError(
        "store-overwrites",
        f"connection {place.name}: the store lets one writer overwrite what another has just written, so that commits could be lost",
        hint="use a store with conditional writes (If-None-Match)",
        connection=place.name,
    )
