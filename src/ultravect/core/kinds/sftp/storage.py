"""A folder of an SFTP server; its host key is verified before anything is sent."""

from __future__ import annotations

import datetime as dt
import difflib
import functools
import io
import logging
import posixpath
import secrets
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from operator import itemgetter
from pathlib import Path
from typing import BinaryIO, cast

import paramiko

from ultravect.core.contracts.probe import Step, network_steps
from ultravect.core.contracts.storage import FileInfo, Listing, OpenFile, require_same
from ultravect.core.errors import UltravectError
from ultravect.core.inside import leads_out
from ultravect.core.kinds.sftp.remote_file import LOST, SftpFile
from ultravect.core.kinds.sftp.sign_in import SftpServer, fingerprint
from ultravect.core.storage.paths import hidden_name
from ultravect.core.words import counted

_BUFFER = 1 << 20
_COUNT_LIMIT = 10_000


# what goes wrong is reported in our own words
logging.getLogger("paramiko").setLevel(logging.CRITICAL)


class SftpStorage(SftpServer):
    """See ``Storage``."""

    def _client(self, transport: paramiko.Transport) -> paramiko.SFTPClient:
        try:
            client = paramiko.SFTPClient.from_transport(transport)
            assert client is not None
            if self._settings.folder:
                client.chdir(self._settings.folder)
            return client
        except FileNotFoundError:
            transport.close()
            raise self._error(
                "folder-missing",
                f"there is no folder {self._settings.folder!r} on the server",
                "check it for typing errors",
            ) from None
        except (*LOST, PermissionError) as error:
            transport.close()
            raise self._error(
                "folder-denied",
                f"the server does not open the folder {self._settings.folder or '.'!r}: {error}",
                "check the user's rights",
            ) from None

    @contextmanager
    def _session(self) -> Iterator[paramiko.SFTPClient]:
        transport = self._signed_in()
        try:
            yield self._client(transport)
        finally:
            transport.close()

    def steps(self) -> Sequence[Step]:
        settings = self._settings

        def known() -> str:
            transport = self._transport()
            try:
                return f"{fingerprint(transport.get_remote_server_key())} is the one confirmed"
            finally:
                transport.close()

        def signed_in() -> str:
            self._signed_in().close()
            return f"as user {settings.user}, by {'private key' if str(settings.private_key) else 'password'}"

        def listed() -> str:
            count = len(self.list(Listing(limit=_COUNT_LIMIT)))
            return f"{'at least ' if count == _COUNT_LIMIT else ''}{counted(count, 'file')} in {settings.folder or 'its folder'}"

        def read() -> str:
            first = self.list(Listing(limit=1))
            if not first:
                return "there is no file to read yet"
            with self.open(first[0].path).stream as stream:
                stream.read(1)
            return f"{first[0].path} can be read"

        return [
            *network_steps(self._name, settings.host, settings.port),
            Step("host key", known),
            Step("sign in", signed_in),
            Step("list", listed),
            Step("read", read),
        ]

    def write_steps(self) -> Sequence[Step]:
        def written() -> str:
            name = f".ultravect-test-{secrets.token_hex(6)}"
            with self._session() as client:
                try:
                    with client.open(name, "wx") as file:
                        file.write(b"test")
                    client.remove(name)
                except OSError as error:
                    raise self._error(
                        "folder-denied", f"the server takes no file: {error}", "have the user allowed to write there"
                    ) from None
            return "a file was written and removed again"

        return [Step("write", written)]

    def list(self, listing: Listing) -> Sequence[FileInfo]:
        found: dict[str, FileInfo] = {}
        with self._session() as client:
            return [found[path] for path in listing.pick(self._walk(client, "", listing, found))]

    def _walk(
        self, client: paramiko.SFTPClient, base: str, listing: Listing, found: dict[str, FileInfo]
    ) -> Iterator[str]:
        """Paths of files, sorted as whole paths are."""
        try:
            entries = client.listdir_attr(base or ".")
        except PermissionError:
            return
        except LOST as error:
            raise self.lost(base or ".", error) from None
        named: list[tuple[str, paramiko.SFTPAttributes]] = []
        for entry in entries:
            mode = entry.st_mode or 0
            shown = not entry.filename.startswith(".") if stat.S_ISDIR(mode) else listing.shows(entry.filename)
            # a server may give names that lead elsewhere
            shown = shown and "/" not in entry.filename and not leads_out(entry.filename)
            if shown and (stat.S_ISDIR(mode) or stat.S_ISREG(mode)):
                named.append((f"{base}{entry.filename}{'/' if stat.S_ISDIR(mode) else ''}", entry))
        for path, entry in sorted(named, key=itemgetter(0)):
            if not path.endswith("/"):
                found[path] = _info(path, entry)
                yield path
            elif path.startswith(listing.prefix) or listing.prefix.startswith(path):
                yield from self._walk(client, path, listing, found)

    def _inside(self, path: str) -> str:
        plain = posixpath.normpath(path)
        if leads_out(path):
            raise self._error(
                "file-outside-folder",
                f"{path!r} leads out of the connection's folder",
                "name a file inside it",
                object=path,
            )
        self._require_shown(plain)
        return plain

    def _require_inside(self, client: paramiko.SFTPClient, path: str, plain: str) -> None:
        """Raises where a link leads out of the connection's folder."""
        folder = (client.normalize(".") or "/").rstrip("/")
        real = client.normalize(plain)
        if real != folder and not (real or "").startswith(f"{folder}/"):
            raise self._error(
                "file-outside-folder",
                f"{path!r} is a link, or in one, that leads out of the connection's folder",
                "name a file inside it",
                object=path,
            )

    def open(self, path: str) -> OpenFile:
        plain = self._inside(path)
        transport = self._signed_in()
        client = self._client(transport)
        try:
            self._require_inside(client, path, plain)
            attributes = client.stat(plain)
            if stat.S_ISDIR(attributes.st_mode or 0):
                raise self._error(
                    "file-is-folder", f"{path!r} is a folder, not a file", "name one file in it", object=path
                )
            file = client.open(plain, "rb", bufsize=0)
        except UltravectError:
            transport.close()
            raise
        except FileNotFoundError:
            transport.close()
            near = difflib.get_close_matches(
                path, [item.path for item in self.list(Listing(limit=2000))], n=1, cutoff=0.6
            )
            hint = f"did you mean {near[0]!r}?" if near else "look at the connection to see which files are there"
            raise self._error("file-missing", f"there is no file {path!r}", hint, object=path) from None
        except PermissionError:
            transport.close()
            raise self._error(
                "file-denied", f"the server does not let the user read {path!r}", "have it allowed", object=path
            ) from None
        except LOST as error:
            transport.close()
            raise self.lost(path, error) from None
        raw = SftpFile(functools.partial(self.lost, path), file, attributes.st_size or 0, transport)
        return OpenFile(_info(path, attributes), cast(BinaryIO, io.BufferedReader(raw, _BUFFER)))

    def put(self, path: str, local: Path) -> None:
        plain = self._inside(path)
        temporary = hidden_name(plain)
        with self._session() as client:
            try:
                self._make_folders(client, posixpath.dirname(plain))
                self._require_inside(client, path, posixpath.dirname(plain) or ".")
                try:
                    client.put(str(local), temporary)
                    client.posix_rename(temporary, plain)
                except OSError:
                    with suppress(OSError):
                        client.remove(temporary)
                    raise
            except (*LOST, OSError) as error:
                raise self._error(
                    "file-not-written",
                    f"{path} cannot be written: {error}",
                    "have the user allowed to write there",
                    object=path,
                ) from None

    def _make_folders(self, client: paramiko.SFTPClient, folder: str) -> None:
        made = ""
        for part in filter(None, folder.split("/")):
            made = f"{made}{part}/"
            try:
                client.stat(made)
                self._require_inside(client, folder, made)
            except FileNotFoundError:
                client.mkdir(made)

    def remove(self, path: str, known: FileInfo | None = None) -> None:
        plain = self._inside(path)
        with self._session() as client:
            try:
                self._require_inside(client, path, posixpath.dirname(plain) or ".")
                if known is not None:
                    require_same(_info(path, client.stat(plain)), known)
                client.remove(plain)
            except FileNotFoundError:
                return
            except (*LOST, OSError) as error:
                raise self._error(
                    "file-not-written", f"{path} cannot be removed: {error}", "have it allowed", object=path
                ) from None


def _info(path: str, attributes: paramiko.SFTPAttributes) -> FileInfo:
    modified = dt.datetime.fromtimestamp(attributes.st_mtime or 0, dt.UTC)
    return FileInfo(path, attributes.st_size or 0, modified)
