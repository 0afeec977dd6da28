"""A bucket of an object store as a file system, for kinds whose tables are read or filled from one."""

from __future__ import annotations

from typing import Protocol
from urllib.parse import urlsplit

import pyarrow.fs as pafs

_CONNECT_SECONDS, _ANSWER_SECONDS = 10, 60


class BucketSettings(Protocol):
    """The settings that say where a bucket is, and with which key it is reached."""

    @property
    def bucket(self) -> str: ...
    @property
    def prefix(self) -> str: ...
    @property
    def endpoint(self) -> str | None: ...
    @property
    def region(self) -> str: ...
    @property
    def access_key(self) -> str: ...
    @property
    def secret_key(self) -> object: ...
    @property
    def session_token(self) -> object: ...


def bucket_files(settings: BucketSettings) -> pafs.SubTreeFileSystem:
    """The files below the prefix; nothing is asked of the store yet."""
    endpoint = urlsplit(settings.endpoint) if settings.endpoint else None
    store = pafs.S3FileSystem(
        access_key=settings.access_key,
        secret_key=str(settings.secret_key),
        session_token=str(settings.session_token) or None,
        region=settings.region,
        scheme=endpoint.scheme if endpoint else "https",
        endpoint_override=endpoint.netloc if endpoint else None,
        connect_timeout=_CONNECT_SECONDS,
        request_timeout=_ANSWER_SECONDS,
    )
    return pafs.SubTreeFileSystem(f"{settings.bucket}/{settings.prefix}".strip("/"), store)
