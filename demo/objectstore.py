"""A stand-in for an object store: the parts of the S3 protocol that Ultravect uses, over a folder on disk.

It checks the signature of each request (AWS Signature Version 4) as a real store does, and answers with the same
codes. It is made for the demo and for tests, not to keep data.
"""

from __future__ import annotations

import argparse
import datetime as dt
import hashlib
import hmac
import re
import secrets
import ssl
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlsplit
from xml.sax.saxutils import escape, unescape

_SIGNATURE = re.compile(
    r"AWS4-HMAC-SHA256 Credential=(?P<key>[^/]+)/(?P<date>\d{8})/(?P<region>[^/]+)/(?P<service>[^/]+)/aws4_request,\s*"
    r"SignedHeaders=(?P<headers>[^,]+),\s*Signature=(?P<signature>[0-9a-f]{64})"
)
_RANGE = re.compile(r"^bytes=(?:(\d+)-(\d*)|-(\d+))$")
_SKEW = dt.timedelta(minutes=15)
_CHUNK = 1 << 20


class Refused(Exception):
    """An answer that is no success."""

    def __init__(self, status: int, code: str, message: str) -> None:
        super().__init__(message)
        self.status, self.code, self.message = status, code, message


def _hmac(key: bytes, text: str) -> bytes:
    return hmac.new(key, text.encode(), hashlib.sha256).digest()


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: ObjectStore

    def log_message(self, *arguments: Any) -> None:
        pass

    def _handle(self) -> None:
        try:
            self._verify()
            bucket, _, key = unquote(urlsplit(self.path).path).lstrip("/").partition("/")
            folder = self.server.folder / bucket
            if not bucket or not folder.is_dir():
                raise Refused(404, "NoSuchBucket", "The specified bucket does not exist")
            if bucket in self.server.denied:
                raise Refused(403, "AccessDenied", "Access Denied")
            getattr(self, f"_{self.command.lower()}")(folder, key)
        except Refused as refused:
            body = f"<Error><Code>{refused.code}</Code><Message>{escape(refused.message)}</Message></Error>".encode()
            self._answer(refused.status, b"" if self.command == "HEAD" else body, {"Content-Type": "application/xml"})
        except (BrokenPipeError, ConnectionResetError):
            self.close_connection = True

    do_GET = do_HEAD = do_PUT = do_DELETE = do_POST = _handle

    def _verify(self) -> None:
        """The signature must be that of the secret key, over this very request."""
        given = _SIGNATURE.match(self.headers.get("Authorization", ""))
        if given is None:
            raise Refused(403, "AccessDenied", "Requests must be signed")
        if given["key"] != self.server.access_key:
            raise Refused(403, "InvalidAccessKeyId", "The access key does not exist")
        moment = self.headers.get("x-amz-date", "")
        try:
            sent = dt.datetime.strptime(moment, "%Y%m%dT%H%M%SZ").replace(tzinfo=dt.UTC)
        except ValueError:
            raise Refused(403, "AccessDenied", "x-amz-date is missing") from None
        if abs(dt.datetime.now(dt.UTC) - sent) > _SKEW:
            raise Refused(403, "RequestTimeTooSkewed", "The clocks differ too much")
        address = urlsplit(self.path)
        query = sorted(parse_qsl(address.query, keep_blank_values=True))
        names = given["headers"].split(";")
        canonical = "\n".join(
            [
                self.command,
                address.path,
                "&".join(f"{quote(key, safe='-_.~')}={quote(value, safe='-_.~')}" for key, value in query),
                *(f"{name}:{' '.join(self.headers.get(name, '').split())}" for name in names),
                "",
                given["headers"],
                self.headers.get("x-amz-content-sha256", ""),
            ]
        )
        scope = f"{given['date']}/{given['region']}/{given['service']}/aws4_request"
        text = "\n".join(["AWS4-HMAC-SHA256", moment, scope, hashlib.sha256(canonical.encode()).hexdigest()])
        key = f"AWS4{self.server.secret_key}".encode()
        for part in (given["date"], given["region"], given["service"], "aws4_request"):
            key = _hmac(key, part)
        if not hmac.compare_digest(_hmac(key, text).hex(), given["signature"]):
            raise Refused(403, "SignatureDoesNotMatch", "The request signature does not match")

    def _answer(self, status: int, body: bytes, headers: dict[str, str]) -> None:
        self.send_response(status)
        for name, value in {"Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    @staticmethod
    def _facts(path: Path) -> dict[str, str]:
        status = path.stat()
        modified = dt.datetime.fromtimestamp(status.st_mtime, dt.UTC)
        etag = hashlib.md5(f"{status.st_size}-{status.st_mtime_ns}".encode()).hexdigest()
        return {
            "ETag": f'"{etag}"',
            "Last-Modified": modified.strftime("%a, %d %b %Y %H:%M:%S GMT"),
            "Accept-Ranges": "bytes",
            "Content-Type": "application/octet-stream",
        }

    def _object(self, folder: Path, key: str) -> Path:
        path = (folder / key).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            raise Refused(404, "NoSuchKey", "The specified key does not exist")
        return path

    def _head(self, folder: Path, key: str) -> None:
        if not key:
            return self._answer(200, b"", {})
        path = self._object(folder, key)
        return self._answer(200, b"", {**self._facts(path), "Content-Length": str(path.stat().st_size)})

    def _get(self, folder: Path, key: str) -> None:
        if not key:
            return self._list(folder)
        path = self._object(folder, key)
        facts = self._facts(path)
        size = path.stat().st_size
        if (wanted := self.headers.get("If-Match")) and wanted != facts["ETag"]:
            raise Refused(412, "PreconditionFailed", "The object was changed")
        start, end = 0, size
        if asked := _RANGE.match(self.headers.get("Range", "")):
            start, end = int(asked[1] or size - min(size, int(asked[3] or 0))), min(size, int(asked[2] or size) + 1)
            end = size if not asked[2] else end
            if start >= size:
                raise Refused(416, "InvalidRange", "The range is not satisfiable")
            facts["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
        self.send_response(206 if asked else 200)
        for name, value in {**facts, "Content-Length": str(end - start)}.items():
            self.send_header(name, value)
        self.end_headers()
        with path.open("rb") as file:
            file.seek(start)
            left = end - start
            while left and (chunk := file.read(min(_CHUNK, left))):
                self.wfile.write(chunk)
                left -= len(chunk)
        return None

    def _list(self, folder: Path) -> None:
        asked = dict(parse_qsl(urlsplit(self.path).query))
        prefix, most = asked.get("prefix", ""), min(1000, int(asked.get("max-keys", 1000)))
        after = asked.get("continuation-token") or asked.get("start-after", "")
        keys = [key for key in self.server.keys(folder) if key.startswith(prefix) and key > after]
        if delimiter := asked.get("delimiter", ""):
            # keys that go on after the delimiter are one entry
            keys = list(dict.fromkeys(_up_to(key, prefix, delimiter) for key in keys))
            keys = [key for key in keys if key > after]
        page = keys[:most]
        entries = "".join(
            f"<CommonPrefixes><Prefix>{escape(key)}</Prefix></CommonPrefixes>"
            if delimiter and key.endswith(delimiter)
            else self._entry(folder / key, key)
            for key in page
        )
        more = len(keys) > len(page)
        token = f"<NextContinuationToken>{escape(page[-1])}</NextContinuationToken>" if more else ""
        body = (
            '<?xml version="1.0" encoding="UTF-8"?><ListBucketResult xmlns="http://s3.amazonaws.com/doc/2006-03-01/">'
            f"<Name>{escape(folder.name)}</Name><KeyCount>{len(page)}</KeyCount><MaxKeys>{most}</MaxKeys>"
            f"<IsTruncated>{str(more).lower()}</IsTruncated>{token}{entries}</ListBucketResult>"
        ).encode()
        self._answer(200, body, {"Content-Type": "application/xml"})

    def _entry(self, path: Path, key: str) -> str:
        status = path.stat()
        modified = dt.datetime.fromtimestamp(status.st_mtime, dt.UTC).strftime("%Y-%m-%dT%H:%M:%S.000Z")
        return f"<Contents><Key>{escape(key)}</Key><Size>{status.st_size}</Size><LastModified>{modified}</LastModified></Contents>"

    def _put(self, folder: Path, key: str) -> None:
        path = (folder / key).resolve()
        if not path.is_relative_to(folder.resolve()):
            raise Refused(400, "InvalidArgument", "The key leads out of the bucket")
        data = self._body()
        if key.endswith("/"):  # an empty object, by which some programs mark a folder
            path.mkdir(parents=True, exist_ok=True)
            return self._answer(200, b"", {"ETag": '"marker"'})
        path.parent.mkdir(parents=True, exist_ok=True)
        asked = dict(parse_qsl(urlsplit(self.path).query))
        if upload := asked.get("uploadId"):
            self.server.parts_of(upload)[int(asked["partNumber"])] = data
            return self._answer(200, b"", {"ETag": f'"{hashlib.md5(data).hexdigest()}"'})
        self._store(folder, path, data)
        return self._answer(200, b"", self._facts(path))

    def _body(self) -> bytes:
        if "chunked" in self.headers.get("Transfer-Encoding", ""):
            data = self._chunks()
        else:
            data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        if self.headers.get("x-amz-content-sha256") == "STREAMING-UNSIGNED-PAYLOAD-TRAILER":
            return _unchunked(data)
        if self.headers.get("x-amz-content-sha256") not in (hashlib.sha256(data).hexdigest(), "UNSIGNED-PAYLOAD"):
            raise Refused(400, "XAmzContentSHA256Mismatch", "The body is not the one that was signed")
        return data

    def _chunks(self) -> bytes:
        """A body of unknown length, chunk by chunk."""
        found = b""
        while size := int(self.rfile.readline().split(b";")[0], 16):
            found += self.rfile.read(size)
            self.rfile.readline()
        while self.rfile.readline().strip():
            pass
        return found

    def _store(self, folder: Path, path: Path, data: bytes) -> None:
        """Writes an object, unless it is to be written only where there is none."""
        with self.server.storing:
            if self.headers.get("If-None-Match") == "*" and path.exists() and not self.server.overwrites:
                raise Refused(412, "PreconditionFailed", "At least one of the pre-conditions did not hold")
            path.write_bytes(data)
            self.server.forget(folder)

    @staticmethod
    def _remove(folder: Path, key: str) -> None:
        """Removes an object, and the folders that have no other: a store has none."""
        path = folder / key
        if path.is_file():
            path.unlink()
        for above in path.parents:
            if above == folder or not above.is_relative_to(folder) or not above.is_dir() or any(above.iterdir()):
                return
            above.rmdir()

    def _post(self, folder: Path, key: str) -> None:
        """Begins an upload in parts and ends it; removes many objects at once."""
        asked = dict(parse_qsl(urlsplit(self.path).query, keep_blank_values=True))
        data = self._body()
        if "delete" in asked:
            keys = [unescape(found) for found in re.findall(r"<Key>(.*?)</Key>", data.decode())]
            for found in keys:
                self._remove(folder, found)
            self.server.forget(folder)
            return self._xml(
                "DeleteResult", "".join(f"<Deleted><Key>{escape(found)}</Key></Deleted>" for found in keys)
            )
        if "uploads" in asked:
            return self._xml(
                "InitiateMultipartUploadResult",
                f"<Bucket>{escape(folder.name)}</Bucket><Key>{escape(key)}</Key><UploadId>{self.server.begin_upload()}</UploadId>",
            )
        parts = self.server.parts_of(asked.get("uploadId", ""))
        path = (folder / key).resolve()
        if not path.is_relative_to(folder.resolve()):
            raise Refused(400, "InvalidArgument", "The key leads out of the bucket")
        path.parent.mkdir(parents=True, exist_ok=True)
        self._store(folder, path, b"".join(parts[number] for number in sorted(parts)))
        etag = escape(self._facts(path)["ETag"])
        return self._xml("CompleteMultipartUploadResult", f"<Key>{escape(key)}</Key><ETag>{etag}</ETag>")

    def _xml(self, name: str, content: str) -> None:
        body = f'<?xml version="1.0" encoding="UTF-8"?><{name} xmlns="http://s3.amazonaws.com/doc/2006-03-01/">{content}</{name}>'
        self._answer(200, body.encode(), {"Content-Type": "application/xml"})

    def _delete(self, folder: Path, key: str) -> None:
        if "uploadId=" not in urlsplit(self.path).query:
            self._remove(folder, key)
        self.server.forget(folder)
        self._answer(204, b"", {})


def _up_to(key: str, prefix: str, delimiter: str) -> str:
    head, found, _ = key[len(prefix) :].partition(delimiter)
    return f"{prefix}{head}{found}"


def _unchunked(data: bytes) -> bytes:
    """A body whose chunks each have their size in front, and checksums at the end."""
    found, at = b"", 0
    while True:
        line_end = data.index(b"\r\n", at)
        size = int(data[at:line_end].split(b";")[0], 16)
        if not size:
            return found
        found += data[line_end + 2 : line_end + 2 + size]
        at = line_end + 2 + size + 2


class ObjectStore(ThreadingHTTPServer):
    """Each folder in ``folder`` is a bucket; those in ``denied`` admit no one."""

    daemon_threads = True

    def __init__(
        self, folder: Path, access_key: str, secret_key: str, port: int = 0, tls: ssl.SSLContext | None = None
    ) -> None:
        super().__init__(("127.0.0.1", port), _Handler)
        self.folder = folder
        self.access_key, self.secret_key = access_key, secret_key
        self.denied: set[str] = set()
        self._keys: dict[Path, list[str]] = {}
        self._uploads: dict[str, dict[int, bytes]] = {}
        self.storing = threading.Lock()
        self.overwrites = False
        """As stores are that know no conditional writes."""
        self._scheme = "http"
        if tls:
            self.socket = tls.wrap_socket(self.socket, server_side=True)
            self._scheme = "https"

    @property
    def endpoint(self) -> str:
        return f"{self._scheme}://127.0.0.1:{self.server_address[1]}"

    def keys(self, folder: Path) -> list[str]:
        """The keys of a bucket in their order; kept, so that the pages of a long list are quick: what others put into the folder meanwhile
        is there, and not in the list, as in stores whose lists are late."""
        if folder not in self._keys:
            files = (path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())
            self._keys[folder] = sorted(files, key=str.encode)
        return self._keys[folder]

    def begin_upload(self) -> str:
        upload = secrets.token_hex(8)
        self._uploads[upload] = {}
        return upload

    def parts_of(self, upload: str) -> dict[int, bytes]:
        if upload not in self._uploads:
            raise Refused(404, "NoSuchUpload", "The upload does not exist")
        return self._uploads[upload]

    def forget(self, folder: Path) -> None:
        """The bucket was changed."""
        self._keys.pop(folder, None)

    def run(self) -> ObjectStore:
        """Serves in a thread of its own."""
        threading.Thread(target=self.serve_forever, daemon=True).start()
        return self

    def settings(self, bucket: str, **changes: object) -> dict[str, object]:
        """Settings of a connection to a bucket."""
        return {
            "bucket": bucket, "endpoint": self.endpoint, "access_key": self.access_key, "secret_key": self.secret_key,
            **changes,
        }  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description="Serves a folder of buckets over the S3 protocol.")
    parser.add_argument("folder", type=Path)
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--access-key", required=True)
    parser.add_argument("--secret-key", required=True)
    parser.add_argument("--overwrites", action="store_true", help="as stores do that know no conditional writes")
    arguments = parser.parse_args()
    server = ObjectStore(arguments.folder, arguments.access_key, arguments.secret_key, arguments.port)
    server.overwrites = arguments.overwrites
    print(server.endpoint, flush=True)
    server.serve_forever()


if __name__ == "__main__":
    main()
