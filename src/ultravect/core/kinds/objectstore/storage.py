"""A bucket of an object store, over the S3 protocol: https://docs.aws.amazon.com/AmazonS3/latest/API/"""

from __future__ import annotations

import datetime as dt
import difflib
import io
import secrets
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO, cast
from urllib.parse import urlsplit

import boto3
import botocore.exceptions as bx
from boto3.exceptions import S3UploadFailedError
from botocore.config import Config

from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.contracts.storage import FileInfo, Listing, OpenFile, replaced, require_same
from ultravect.core.errors import UltravectError
from ultravect.core.inside import leads_out
from ultravect.core.kinds.objectstore.kind import ObjectStoreSettings
from ultravect.core.storage.paths import Named
from ultravect.core.streams import RemoteFile
from ultravect.core.tls import certificate_file

_SECONDS = 20
_ATTEMPTS = 3
_BUFFER = 1 << 20
# what the store answers, and what it means: code, detail, hint
_ANSWERS = {
    "NoSuchBucket": ("bucket-missing", "there is no bucket {bucket!r}", "check the bucket for typing errors"),
    "404": ("bucket-missing", "there is no bucket {bucket!r}", "check the bucket for typing errors"),
    "InvalidAccessKeyId": ("wrong-key", "the store does not know the access key", "check access_key"),
    "SignatureDoesNotMatch": ("wrong-key", "the store refuses the signature", "set secret_key anew"),
    "ExpiredToken": ("wrong-key", "the session token has expired", "set session_token anew"),
    "InvalidToken": ("wrong-key", "the store refuses the session token", "set session_token anew"),
    "RequestTimeTooSkewed": ("clock-skewed", "the clocks of store and service differ too much", "set the clock"),
    "PermanentRedirect": ("wrong-region", "the bucket is in another region", "set region to the bucket's own"),
    "AuthorizationHeaderMalformed": (
        "wrong-region",
        "the store expects another region",
        "set region to the bucket's own",
    ),
    "AccessDenied": (
        "bucket-denied",
        "the store denies access",
        "have the key's owner allowed to list and read the bucket",
    ),
    "403": ("bucket-denied", "the store denies access", "have the key's owner allowed to list and read the bucket"),
}


def _code_of(error: bx.ClientError) -> str:
    return str(error.response.get("Error", {}).get("Code"))


class _RangeFile(RemoteFile):
    """An object that can be sought in: each read after a seek asks for what follows from there on."""

    def __init__(self, storage: ObjectStoreStorage, path: str, size: int, etag: str) -> None:
        super().__init__(size)
        self._storage, self._path, self._etag = storage, path, etag
        self._body: Any = None

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        before = self._at
        if super().seek(offset, whence) != before:
            self._drop()
        return self._at

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        if self._at >= self._size or not len(buffer):
            return 0
        if self._body is None:
            self._body = self._storage.body(self._path, self._at, self._etag)
        try:
            data = self._body.read(len(buffer))
        except (bx.BotoCoreError, OSError) as error:
            raise self._storage.lost(self._path, error) from None
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)

    def _drop(self) -> None:
        if self._body is not None:
            self._body.close()
            self._body = None

    def close(self) -> None:
        self._drop()
        super().close()


class ObjectStoreStorage(Named):
    """See ``Storage``."""

    def __init__(self, name: str, settings: ObjectStoreSettings, roots: Sequence[str]) -> None:
        super().__init__(name)
        self._settings = settings
        self._prefix = settings.prefix.lstrip("/")

    @cached_property
    def _client(self) -> Any:
        settings = self._settings
        verify: bool | str = settings.tls == "verified"
        if verify and settings.tls_ca:
            verify = certificate_file(settings.tls_ca)
        return boto3.session.Session().client(
            "s3",
            endpoint_url=settings.endpoint,
            region_name=settings.region,
            aws_access_key_id=settings.access_key,
            aws_secret_access_key=str(settings.secret_key),
            aws_session_token=str(settings.session_token) or None,
            verify=verify,
            config=Config(
                connect_timeout=_SECONDS,
                read_timeout=_SECONDS * 3,
                retries={"max_attempts": _ATTEMPTS, "mode": "standard"},
                s3={"addressing_style": "virtual" if settings.addressing == "host" else "path"},
                request_checksum_calculation="when_required",
                response_checksum_validation="when_required",
            ),
        )

    def _explained(self, error: Exception, doing: str) -> UltravectError:
        if isinstance(error, bx.ClientError):
            answer = error.response.get("Error", {})
            code, detail, hint = _ANSWERS.get(
                str(answer.get("Code")),
                ("store-refused", f"the store answers {answer.get('Code')}: {answer.get('Message')}", ""),
            )
            return self._error(code, f"{detail.format(bucket=self._settings.bucket)}, while {doing}", hint)
        if isinstance(error, bx.SSLError):
            return self._error(
                "certificate-refused",
                f"the store's certificate does not verify: {str(error)[-200:]}",
                "set tls_ca to the certificate of its authority; tls: unchecked would trust anyone",
            )
        if isinstance(error, bx.EndpointConnectionError | bx.ConnectTimeoutError):
            return self._error(
                "host-unreachable",
                f"{self._settings.endpoint or 'the store'} cannot be reached, while {doing}",
                "check the endpoint",
            )
        return self._error("store-refused", f"{str(error)[:300]}, while {doing}", "check the connection's settings")

    def steps(self) -> Sequence[Step]:
        address = urlsplit(self._settings.endpoint or f"https://s3.{self._settings.region}.amazonaws.com")
        port = address.port or (443 if address.scheme == "https" else 80)

        def read() -> str:
            first = self.list(Listing(limit=1))
            if not first:
                return "there is no object to read yet"
            with self.open(first[0].path).stream as stream:
                stream.read(1)
            return f"{first[0].path} can be read"

        def listed() -> str:
            found = self.list(Listing(limit=1000))
            return f"{'at least ' if len(found) == 1000 else ''}{len(found):,} objects below {self._prefix or '/'}"

        return [
            *network_steps(self._name, address.hostname or "", port),
            Step("sign in", self._sign_in),
            Step("list", listed),
            Step("read", read),
        ]

    def _sign_in(self) -> str:
        try:
            self._client.head_bucket(Bucket=self._settings.bucket)
        except bx.ClientError as error:
            if _code_of(error) != "403":
                raise self._explained(error, "asking for the bucket") from None
            # HEAD has no text that would distinguish a wrong key from a missing right: the list has
            self.list(Listing(limit=1))
        except bx.BotoCoreError as error:
            raise self._explained(error, "asking for the bucket") from None
        return f"bucket {self._settings.bucket} is there, the request's signature accepted"

    def write_steps(self) -> Sequence[Step]:
        def written() -> str:
            key = f"{self._prefix}.ultravect-test-{secrets.token_hex(6)}"
            try:
                self._client.put_object(Bucket=self._settings.bucket, Key=key, Body=b"test")
                self._client.delete_object(Bucket=self._settings.bucket, Key=key)
            except (bx.ClientError, bx.BotoCoreError) as error:
                raise self._explained(error, "writing an object") from None
            return "an object was written and removed again"

        return [Step("write", written)]

    def list(self, listing: Listing) -> Sequence[FileInfo]:
        found: dict[str, FileInfo] = {}

        def paths() -> Iterator[str]:
            for info in self._objects(listing):
                found[info.path] = info
                yield info.path

        return [found[path] for path in listing.pick(paths())]

    def _objects(self, listing: Listing) -> Iterator[FileInfo]:
        asked: dict[str, Any] = {"Bucket": self._settings.bucket, "Prefix": self._prefix + listing.prefix}
        if listing.after:
            asked["StartAfter"] = self._prefix + listing.after
        try:
            for page in self._client.get_paginator("list_objects_v2").paginate(**asked):
                for item in page.get("Contents", ()):
                    if "Key" not in item:
                        continue
                    path = item["Key"][len(self._prefix) :]
                    *folders, name = path.split("/")
                    hidden = any(part.startswith(".") for part in folders) or leads_out(path)
                    if name and item["Key"].startswith(self._prefix) and listing.shows(name) and not hidden:
                        modified = item.get("LastModified")
                        when = modified.astimezone(dt.UTC) if modified else None
                        yield FileInfo(path, item.get("Size", -1), when, item.get("ETag") or "")
        except (bx.ClientError, bx.BotoCoreError) as error:
            raise self._explained(error, "listing the bucket") from None

    def _require_inside(self, path: str) -> None:
        """Raises for a name that a store, or what stands before it, could take for one outside of the prefix."""
        if leads_out(path):
            raise self._error(
                "file-outside-folder", f"{path!r} leads out of the prefix", "name an object below it", object=path
            )
        self._require_shown(path)

    def open(self, path: str) -> OpenFile:
        self._require_inside(path)
        try:
            head = self._client.head_object(Bucket=self._settings.bucket, Key=self._prefix + path)
        except bx.ClientError as error:
            if _code_of(error) in ("404", "NoSuchKey", "NotFound"):
                raise self._missing(path) from None
            raise self._explained(error, f"opening {path}") from None
        except (bx.BotoCoreError, ValueError) as error:
            raise self._explained(error, f"opening {path}") from None
        size, modified = head.get("ContentLength"), head.get("LastModified")
        if not isinstance(size, int) or size < 0:
            raise self._error(
                "store-refused",
                f"the store does not say how large {path} is",
                "see what the store answers",
                object=path,
            )
        info = FileInfo(path, size, modified.astimezone(dt.UTC) if modified else None, head.get("ETag") or "")
        raw = _RangeFile(self, path, info.size, info.tag)
        return OpenFile(info, cast(BinaryIO, io.BufferedReader(raw, _BUFFER)))

    def put(self, path: str, local: Path) -> None:
        self._require_inside(path)
        # an object appears when it, or the last of its parts, has come whole
        try:
            self._client.upload_file(str(local), self._settings.bucket, self._prefix + path)
        except (bx.ClientError, bx.BotoCoreError, S3UploadFailedError) as error:
            raise self._explained(error, f"writing {path}") from None

    def remove(self, path: str, known: FileInfo | None = None) -> None:
        self._require_inside(path)
        asked = {"Bucket": self._settings.bucket, "Key": self._prefix + path}
        if known is not None:
            try:
                found = self.open(path)
                found.stream.close()
                require_same(found.info, known)
            except UltravectError as error:
                if error.code == "file-missing":
                    return
                raise
            if found.info.tag:
                # a store that does not know the condition leaves it out: then what was found a moment ago holds
                asked["IfMatch"] = found.info.tag
        try:
            self._client.delete_object(**asked)
        except bx.ClientError as error:
            if _code_of(error) in ("PreconditionFailed", "412") and known is not None:
                raise replaced(path) from None
            if _code_of(error) not in ("NotImplemented", "501"):
                raise self._explained(error, f"removing {path}") from None
            self._client.delete_object(Bucket=asked["Bucket"], Key=asked["Key"])
        except bx.BotoCoreError as error:
            raise self._explained(error, f"removing {path}") from None

    def _missing(self, path: str) -> UltravectError:
        names = [info.path for info in self.list(Listing(limit=2000))]  # fails for a missing bucket, too
        near = difflib.get_close_matches(path, names, n=1, cutoff=0.6)
        hint = f"did you mean {near[0]!r}?" if near else "look at the connection to see which objects are there"
        return self._error(
            "file-missing", f"there is no object {path!r} in bucket {self._settings.bucket}", hint, object=path
        )

    def body(self, path: str, start: int, etag: str) -> Any:
        """An object's bytes from ``start`` on; UltravectError when it is no longer the one that was opened."""
        try:
            answer = self._client.get_object(
                Bucket=self._settings.bucket,
                Key=self._prefix + path,
                Range=f"bytes={start}-",
                **({"IfMatch": etag} if etag else {}),
            )
        except bx.ClientError as error:
            if _code_of(error) in ("PreconditionFailed", "412", "NoSuchKey", "404"):
                raise UltravectError(
                    "file-changed",
                    f"{path} was replaced or removed while it was read",
                    hint="copy it when its writer is done",
                    object=path,
                ) from None
            raise self._explained(error, f"reading {path}") from None
        except bx.BotoCoreError as error:
            raise self._explained(error, f"reading {path}") from None
        return answer["Body"]
