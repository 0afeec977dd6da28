"""Files and JSON that a web server gives; redirects do not lead into private networks unless allowed."""

from __future__ import annotations

import datetime as dt
import email.utils
import io
import ipaddress
import posixpath
import ssl
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import BinaryIO, cast

import httpcore
import httpx

from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.contracts.storage import FileInfo, Listing, OpenFile
from ultravect.core.errors import UltravectError
from ultravect.core.inside import readings
from ultravect.core.kinds.http.kind import HttpSettings
from ultravect.core.kinds.http.network import BUFFER, Body, Network, is_stored
from ultravect.core.kinds.http.pages import Pages
from ultravect.core.kinds.http.sign_in import SignIn
from ultravect.core.storage.paths import Named
from ultravect.core.tls import verifying_context
from ultravect.core.words import counted

_SECONDS = 30.0
_MAX_REDIRECTS = 5
_ATTEMPTS = 4
_LONGEST_WAIT = 60.0
_WORDS = {
    401: ("wrong-password", "the server wants another sign-in", "check user and password, or the token"),
    403: ("file-denied", "the server does not let this sign-in read it", "have it allowed"),
    404: ("file-missing", "there is nothing at this address", "check the path for typing errors"),
    410: ("file-missing", "it is gone for good", "ask the server's owner where it is now"),
    429: ("server-full", "the server asks to be left alone for a while", "try later"),
}


def _origin(address: httpx.URL) -> tuple[str, str, int]:
    return address.scheme, address.host, address.port or (443 if address.scheme == "https" else 80)


def _is_below(address: httpx.URL, base: httpx.URL) -> bool:
    """Whether a path stays below another one, however often a server undoes encodings."""
    path = address.raw_path.partition(b"?")[0].decode("ascii")
    read = list(readings(path))
    if any("\0" in reading or {"..", "."} & {*reading.split("/")} for reading in read):
        return False
    return f"{posixpath.normpath(read[-1])}/".startswith(base.path)


def _unchecked() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)  # without what the machine trusts, which takes long to read
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


class HttpStorage(Named):
    """See ``Storage``."""

    def __init__(self, name: str, settings: HttpSettings, roots: Sequence[str]) -> None:
        super().__init__(name)
        self._settings = settings
        self._network = Network()
        self._sign_in = SignIn(settings, self._error)
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

    def _get(self, client: httpx.Client, path: str, method: str = "GET") -> httpx.Response:
        """The answer to a path; UltravectError when it is none that can be used."""
        return self._answered(client, path, self._address(path), method)

    def _answered(self, client: httpx.Client, path: str, address: httpx.URL, method: str = "GET") -> httpx.Response:
        """The answer after all redirects, and after waiting where the server wants that; ``path`` names it in errors."""
        for attempt in range(_ATTEMPTS):
            response = self._sent(client, path, address, method)
            if response.is_success:
                return response
            response.close()
            if response.status_code == 401 and self._sign_in.renews and attempt == 0:
                self._sign_in.forget()  # it may have been withdrawn before its time
                continue
            wait = _asked_to_wait(response, attempt)
            if wait is None or attempt + 1 == _ATTEMPTS:
                break
            time.sleep(wait)
        code, detail, hint = _WORDS.get(
            response.status_code,
            ("server-refused", "the server does not give it", "see what the server's owner says"),
        )
        raise self._error(
            code, f"{path}: {detail} ({response.status_code} {response.reason_phrase})", hint, object=path
        )

    def _sent(self, client: httpx.Client, path: str, address: httpx.URL, method: str) -> httpx.Response:
        """What the server answers once it redirects no more, whatever it is."""
        for _ in range(_MAX_REDIRECTS + 1):
            request = client.build_request(method, address, headers={"Accept-Encoding": "identity"})
            self._network.guard = None
            if _origin(address) == _origin(self._base) and _is_below(address, self._base):
                self._sign_in.apply(request, client)  # a secret goes nowhere else
            elsewhere = _origin(address) != _origin(self._base) and not self._settings.private_redirects
            self._network.guard = self._guarded(path, address) if elsewhere else None
            try:
                response = client.send(request, stream=True)
            except httpx.TransportError as error:
                raise self._unreached(path, error) from None
            if not response.has_redirect_location:
                return response
            response.close()
            address = self._allowed(address, self._joined(address, response.headers["location"], path), path)
        raise self._error(
            "redirect-refused",
            f"{path} is redirected more than {_MAX_REDIRECTS} times",
            "check the address",
            object=path,
        )

    def _joined(self, address: httpx.URL, link: str, path: str) -> httpx.URL:
        """The address that a server names; UltravectError where it is none."""
        try:
            return address.join(link)
        except (httpx.InvalidURL, ValueError):
            raise self._error(
                "page-elsewhere",
                f"{path}: the server names an address that is none: {link[:100]!r}",
                "see what the server gives",
                object=path,
            ) from None

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
            return f"{self._base} answers {response.status_code}, {self._sign_in.how}"

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

    def remove(self, path: str, known: FileInfo | None = None) -> None:
        raise self._read_only()

    def _paged(self, path: str) -> OpenFile:
        """All pages of a path, as one file."""
        client = self._client()

        def get(address: httpx.URL) -> httpx.Response:
            if _origin(address) != _origin(self._base) or not _is_below(address, self._base):
                raise self._error(
                    "page-elsewhere",
                    f"{path}: the next page is {address}, which leads away from {self._base}",
                    "set url to what all pages have in common",
                )
            return self._answered(client, path, address)

        def join(address: httpx.URL, link: str) -> httpx.URL:
            return self._joined(address, link, path)

        pages = Pages(self._settings, self._address(path), get, join, self._error)
        return OpenFile(FileInfo(path, -1, None), pages.stream())

    def open(self, path: str) -> OpenFile:
        if self._settings.pages != "none":
            return self._paged(path)
        client = self._client()
        try:
            response = self._get(client, path)
        except BaseException:
            client.close()
            raise
        return OpenFile(
            _info(path, response),
            cast(BinaryIO, io.BufferedReader(Body(lambda error: self.lost(path, error), client, response), BUFFER)),
        )


def _asked_to_wait(response: httpx.Response, attempt: int) -> float | None:
    """How many seconds the server wants to be left alone; None where it has not asked for that, or for too long."""
    if response.status_code not in (429, 503):
        return None
    asked = response.headers.get("Retry-After", "")
    if not asked:
        return float(2**attempt)
    try:
        seconds = float(asked) if asked.isdecimal() else _until(asked)
    except (ValueError, TypeError):
        return None
    return max(seconds, 0.0) if seconds <= _LONGEST_WAIT else None


def _until(moment: str) -> float:
    return (email.utils.parsedate_to_datetime(moment) - dt.datetime.now(dt.UTC)).total_seconds()


def _info(path: str, response: httpx.Response) -> FileInfo:
    length = response.headers.get("content-length", "")
    size = int(length) if length.isdigit() and is_stored(response) else -1
    try:
        modified = email.utils.parsedate_to_datetime(response.headers.get("last-modified", ""))
    except ValueError:
        modified = None
    return FileInfo(path, size, modified)
