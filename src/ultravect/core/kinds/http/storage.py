"""Files and JSON that a web server gives; redirects do not lead into private networks unless allowed."""

from __future__ import annotations

import email.utils
import io
import ipaddress
import posixpath
import socket
import ssl
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO, cast
from urllib.parse import unquote

import httpcore
import httpx

from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.contracts.storage import FileInfo, Listing, OpenFile
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.http.settings import HttpSettings
from ultravect.core.storage.paths import Named
from ultravect.core.tls import verifying_context
from ultravect.core.words import counted

_SECONDS = 30.0
_MAX_REDIRECTS = 5
_MOST_ENCODINGS = 5
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


def _origin(address: httpx.URL) -> tuple[str, str, int]:
    return address.scheme, address.host, address.port or (443 if address.scheme == "https" else 80)


def _is_below(address: httpx.URL, base: httpx.URL) -> bool:
    """Whether a path stays below another one, however often a server undoes encodings."""
    path = address.raw_path.partition(b"?")[0].decode("ascii")
    for _ in range(_MOST_ENCODINGS):
        parts = path.replace("\\", "/").split("/")
        if ".." in parts or "." in parts:
            return False
        path, before = unquote(path), path
        if path == before:
            return f"{posixpath.normpath(path)}/".startswith(base.path)
    return False


def _unchecked() -> ssl.SSLContext:
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


class _Network(httpcore.NetworkBackend):
    """Connects to the very addresses that ``guard`` has looked at: a name may mean another one the next time."""

    def __init__(self) -> None:
        self._backend = httpcore.SyncBackend()
        self.guard: Callable[[str], None] | None = None

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:
        try:
            found = [str(item[4][0]) for item in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
        except (OSError, UnicodeError) as error:
            raise httpcore.ConnectError(str(error)) from None
        for address in found:
            if self.guard:
                self.guard(address)
        failed: Exception = httpcore.ConnectError(f"{host} has no address")
        for address in dict.fromkeys(found):
            try:
                return self._backend.connect_tcp(address, port, timeout, local_address, socket_options)
            except (httpcore.ConnectError, httpcore.ConnectTimeout) as error:
                failed = error
        raise failed


class HttpStorage(Named):
    """See ``Storage``."""

    def __init__(self, name: str, settings: HttpSettings, roots: Sequence[str]) -> None:
        super().__init__(name)
        self._settings = settings
        self._network = _Network()
        self._base = httpx.URL(settings.url if settings.url.endswith("/") else settings.url + "/")

    def _client(self) -> httpx.Client:
        settings = self._settings
        verify: ssl.SSLContext | bool = False
        if settings.tls == "verified":
            verify = verifying_context(self._name, settings.tls_ca)
        context = verify if isinstance(verify, ssl.SSLContext) else _unchecked()
        # a pool of its own for each request: a connection must not be used again for another address
        transport = httpx.HTTPTransport(verify=context, limits=httpx.Limits(max_keepalive_connections=0))
        transport._pool = httpcore.ConnectionPool(
            ssl_context=context, max_keepalive_connections=0, network_backend=self._network
        )
        return httpx.Client(
            transport=transport, timeout=httpx.Timeout(_SECONDS), follow_redirects=False, trust_env=False
        )

    def _address(self, path: str) -> httpx.URL:
        try:
            address = self._base.join(path.lstrip("/"))
        except (httpx.InvalidURL, ValueError) as error:
            raise self._error(
                "file-missing", f"{path!r} is no path: {error}", "check it for typing errors", object=path
            ) from None
        if _origin(address) != _origin(self._base) or not _is_below(address, self._base):
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
        """The answer after all redirects; UltravectError when it is none that can be used."""
        address = self._address(path)
        for _ in range(_MAX_REDIRECTS + 1):
            request = client.build_request(method, address, headers={"Accept-Encoding": "identity"})
            if _origin(address) == _origin(self._base):
                self._sign_in(request)  # a secret goes to no one else
            elsewhere = _origin(address) != _origin(self._base) and not self._settings.private_redirects
            self._network.guard = self._guarded(path, address) if elsewhere else None
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
        return after

    def _guarded(self, path: str, address: httpx.URL) -> Callable[[str], None]:
        """What looks at each network address before it is connected to, in place of ``address``."""

        def guard(found: str) -> None:
            if not ipaddress.ip_address(found.partition("%")[0]).is_global:
                raise self._error(
                    "redirect-refused",
                    f"{path} is redirected to {address.host}, which is in a private network",
                    "if that is meant, set private_redirects: true",
                    object=path,
                )

        return guard

    def _unreached(self, path: str, error: httpx.TransportError) -> UltravectError:
        text = str(error) or type(error).__name__
        if "CERTIFICATE_VERIFY_FAILED" in text or "certificate" in text.lower():
            return self._error(
                "certificate-refused",
                f"the certificate of {self._base.host} does not verify: {text[-200:]}",
                "set tls_ca to the certificate of its authority; tls: unchecked would trust anyone",
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
