"""Files and JSON that a web server gives; redirects do not lead into private networks unless allowed."""

from __future__ import annotations

import email.utils
import io
import ipaddress
import socket
import ssl
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO, cast

import httpx

from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import HttpSettings
from ultravect.core.probe import Step, network_steps
from ultravect.core.storage.base import FileInfo, Listing, Named, OpenFile
from ultravect.core.tls import verifying_context
from ultravect.core.words import counted

_SECONDS = 30.0
_MAX_REDIRECTS = 5
_BUFFER = 1 << 20
_WORDS = {
    401: ("wrong-password", "the server wants another sign-in", "check user and password, or the token"),
    403: ("file-denied", "the server does not let this sign-in read it", "have it allowed"),
    404: ("file-missing", "there is nothing at this address", "check the path for typing errors"),
    410: ("file-missing", "it is gone for good", "ask the server's owner where it is now"),
    429: ("server-full", "the server asks to be left alone for a while", "try later"),
}


class _Body(io.RawIOBase):
    """The body of an answer as a stream of bytes."""

    def __init__(self, storage: HttpStorage, path: str, client: httpx.Client, response: httpx.Response) -> None:
        self._storage, self._path, self._client, self._response = storage, path, client, response
        self._chunks: Iterator[bytes] = (
            response.iter_raw(_BUFFER) if _stored(response) else response.iter_bytes(_BUFFER)
        )
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        while not self._rest:
            try:
                self._rest = next(self._chunks)
            except StopIteration:
                return 0
            except (httpx.TransportError, httpx.DecodingError) as error:
                raise self._storage.lost(self._path, error) from None
        count = min(len(buffer), len(self._rest))
        buffer[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count

    def close(self) -> None:
        self._response.close()
        self._client.close()
        super().close()


def _stored(response: httpx.Response) -> bool:
    return "content-encoding" not in response.headers


def _private(host: str) -> bool:
    """Whether a host is in a network that the outside cannot reach."""
    try:
        found = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        return False
    return any(not ipaddress.ip_address(str(one[4][0]).partition("%")[0]).is_global for one in found)


class HttpStorage(Named):
    """See ``Storage``."""

    def __init__(self, name: str, settings: HttpSettings, roots: Sequence[str]) -> None:
        super().__init__(name)
        self._settings = settings
        self._base = httpx.URL(settings.url if settings.url.endswith("/") else settings.url + "/")

    def _client(self) -> httpx.Client:
        settings = self._settings
        verify: ssl.SSLContext | bool = False
        if settings.tls == "verified":
            verify = verifying_context(self._name, settings.tls_ca)
        return httpx.Client(verify=verify, timeout=httpx.Timeout(_SECONDS), follow_redirects=False, trust_env=False)

    def _address(self, path: str) -> httpx.URL:
        try:
            address = self._base.join(path.lstrip("/"))
        except (httpx.InvalidURL, ValueError) as error:
            raise self._error(
                "file-missing", f"{path!r} is no path: {error}", "check it for typing errors", object=path
            ) from None
        if address.host != self._base.host or not address.path.startswith(self._base.path):
            raise self._error(
                "file-outside-folder", f"{path!r} leads away from {self._base}", "name a path below it", object=path
            )
        return address

    def _sign_in(self, request: httpx.Request) -> None:
        settings = self._settings
        if str(settings.token):
            request.headers["Authorization"] = f"Bearer {settings.token}"
        elif settings.user:
            auth = httpx.BasicAuth(settings.user, str(settings.password))
            request.headers["Authorization"] = next(auth.sync_auth_flow(request)).headers["Authorization"]

    def _get(self, client: httpx.Client, path: str, method: str = "GET") -> httpx.Response:
        """The answer behind all redirects; UltravectError when it is none that can be used."""
        address = self._address(path)
        for _ in range(_MAX_REDIRECTS + 1):
            request = client.build_request(method, address, headers={"Accept-Encoding": "identity"})
            if (address.scheme, address.host, address.port) == (self._base.scheme, self._base.host, self._base.port):
                self._sign_in(request)  # a secret goes to nobody else
            try:
                response = client.send(request, stream=True)
            except httpx.TransportError as error:
                raise self._unreached(path, error) from None
            if not response.is_redirect:
                break
            response.close()
            address = self._allowed(address, address.join(response.headers["location"]), path)
        else:
            raise self._error(
                "redirect-refused",
                f"{path} is redirected more than {_MAX_REDIRECTS} times",
                "check the address",
                object=path,
            )
        if response.is_success:
            return response
        response.close()
        code, detail, hint = _WORDS.get(
            response.status_code,
            ("server-refused", "the server does not give it", "see what the server's owner says"),
        )
        raise self._error(
            code, f"{path}: {detail} ({response.status_code} {response.reason_phrase})", hint, object=path
        )

    def _allowed(self, before: httpx.URL, after: httpx.URL, path: str) -> httpx.URL:
        if after.scheme not in ("http", "https") or (before.scheme == "https" and after.scheme == "http"):
            raise self._error(
                "redirect-refused",
                f"{path} is redirected to {after}, which is not safe to follow",
                "correct the url",
                object=path,
            )
        if after.host != self._base.host and not self._settings.private_redirects and _private(after.host):
            raise self._error(
                "redirect-refused",
                f"{path} is redirected to {after.host}, which is in a private network",
                "if that is meant, set private_redirects: true",
                object=path,
            )
        return after

    def _unreached(self, path: str, error: httpx.TransportError) -> UltravectError:
        text = str(error) or type(error).__name__
        if "CERTIFICATE_VERIFY_FAILED" in text or "certificate" in text.lower():
            return self._error(
                "certificate-refused",
                f"the certificate of {self._base.host} does not verify: {text[-200:]}",
                "set tls_ca to the certificate of its authority; tls: unchecked would trust anybody",
            )
        for step in self._reach():
            step.run()
        return self._error("connection-lost", f"{path}: no answer: {text}", "try again", object=path)

    def _reach(self) -> Sequence[Step]:
        port = self._base.port or (443 if self._base.scheme == "https" else 80)
        return network_steps(self._name, self._base.host, port)

    def steps(self) -> Sequence[Step]:
        paths = self._settings.paths

        def signed_in() -> str:
            with self._client() as client:
                response = self._get(client, paths[0] if paths else "")
                response.close()
            how = (
                "by token"
                if str(self._settings.token)
                else f"as {self._settings.user}"
                if self._settings.user
                else "without sign-in"
            )
            return f"{self._base} answers {response.status_code}, {how}"

        def read() -> str:
            if not paths:
                return "no paths are named in the connection: nothing is tried"
            with self.open(paths[0]).stream as stream:
                stream.read(1)
            return f"{paths[0]} can be read"

        def listed() -> str:
            return f"{counted(len(paths), 'path')} named in the connection"

        return [*self._reach(), Step("sign in", signed_in), Step("list", listed), Step("read", read)]

    def write_steps(self) -> Sequence[Step]:
        def refused() -> str:
            raise self._read_only()

        return [Step("write", refused)]

    def list(self, listing: Listing) -> Sequence[FileInfo]:
        """The paths that the connection names, each asked for its size."""
        found: list[FileInfo] = []
        with self._client() as client:
            for path in listing.pick(iter(sorted(self._settings.paths))):
                try:
                    response = self._get(client, path, "HEAD")
                except UltravectError as error:
                    if error.code not in ("server-refused", "file-missing"):
                        raise
                    found.append(FileInfo(path, -1, None))
                    continue
                response.close()
                found.append(_info(path, response))
        return found

    def _read_only(self) -> UltravectError:
        return self._error(
            "target-not-supported", "a web server is read, not written to", "copy into another kind of connection"
        )

    def put(self, path: str, local: Path) -> None:
        raise self._read_only()

    def remove(self, path: str) -> None:
        raise self._read_only()

    def open(self, path: str) -> OpenFile:
        client = self._client()
        try:
            response = self._get(client, path)
        except BaseException:
            client.close()
            raise
        return OpenFile(
            _info(path, response), cast(BinaryIO, io.BufferedReader(_Body(self, path, client, response), _BUFFER))
        )


def _info(path: str, response: httpx.Response) -> FileInfo:
    length = response.headers.get("content-length", "")
    size = int(length) if length.isdigit() and _stored(response) else -1
    try:
        modified = email.utils.parsedate_to_datetime(response.headers.get("last-modified", ""))
    except ValueError:
        modified = None
    return FileInfo(path, size, modified)
