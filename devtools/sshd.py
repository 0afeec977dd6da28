"""An OpenSSH server of our own, from Debian's packages, on loopback: SFTP with a key, and with a password."""

from __future__ import annotations

import getpass
import os
import secrets
import shutil
import socket
import subprocess
import tempfile
import time
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from devtools.postgres import free_port

_START_SECONDS = 20
_PASSWORD_USER = "ultravect-sftp"


@dataclass
class SshServer:
    """``files`` is the folder that is served; ``user_key`` a private key that it takes."""

    folder: Path
    port: int
    files: Path
    user: str
    password: str = ""
    process: subprocess.Popen[bytes] | None = field(default=None, repr=False)

    @classmethod
    def create(cls) -> SshServer:
        folder = Path(tempfile.mkdtemp(prefix="ultravect-ssh-", dir="/var/tmp"))
        folder.chmod(0o755)
        server = cls(folder, free_port(), folder / "files", getpass.getuser())
        server.files.mkdir()
        server.make_host_key()
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / "user_key"], check=True)
        shutil.copy(folder / "user_key.pub", folder / "authorized_keys")
        (folder / "authorized_keys").chmod(0o644)
        server.start()
        return server

    def make_host_key(self) -> None:
        for old in self.folder.glob("host_key*"):
            old.unlink()
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.folder / "host_key"], check=True)

    @property
    def host_key(self) -> str:
        return " ".join((self.folder / "host_key.pub").read_text().split()[:2])

    @property
    def user_key(self) -> str:
        return (self.folder / "user_key").read_text()

    def allow_password(self) -> None:
        """Makes a user who signs in with a password; only root can."""
        self.password = secrets.token_urlsafe(9)
        subprocess.run(
            ["useradd", "--no-create-home", "--home-dir", str(self.files), _PASSWORD_USER], capture_output=True
        )
        subprocess.run(["chpasswd"], input=f"{_PASSWORD_USER}:{self.password}".encode(), check=True)

    def start(self) -> None:
        configuration = self.folder / "sshd_config"
        pam = "yes" if os.geteuid() == 0 else "no"
        configuration.write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {self.folder}/host_key\nPidFile none\n"
            f"AuthorizedKeysFile {self.folder}/authorized_keys\nStrictModes no\nUsePAM {pam}\n"
            "PasswordAuthentication yes\nKbdInteractiveAuthentication no\nPermitRootLogin prohibit-password\n"
            "Subsystem sftp internal-sftp\nLogLevel ERROR\nMaxStartups 100\n"
        )
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        log = (self.folder / "server.log").open("ab")
        self.process = subprocess.Popen(
            ["/usr/sbin/sshd", "-D", "-e", "-f", str(configuration)], stdout=log, stderr=log, start_new_session=True
        )
        until = time.monotonic() + _START_SECONDS
        while time.monotonic() < until and self.process.poll() is None:
            with suppress(OSError), socket.create_connection(("127.0.0.1", self.port), timeout=1):
                return
            time.sleep(0.05)
        raise SystemExit(f"sshd did not start:\n{(self.folder / 'server.log').read_text()}")

    def stop(self) -> None:
        if self.process is not None:
            self.process.terminate()
            self.process.wait()

    def remove(self) -> None:
        self.stop()
        if self.password:
            subprocess.run(["userdel", _PASSWORD_USER], capture_output=True)
        shutil.rmtree(self.folder, ignore_errors=True)

    def settings(self, **changes: object) -> dict[str, object]:
        """Settings of a connection that signs in with the key."""
        return {
            "host": "127.0.0.1", "port": self.port, "user": self.user, "private_key": self.user_key,
            "host_key": self.host_key, "folder": str(self.files), **changes,
        }  # fmt: skip

    def password_settings(self, **changes: object) -> dict[str, object]:
        own = {key: value for key, value in self.settings().items() if key != "private_key"}
        return {**own, "user": _PASSWORD_USER, "password": self.password, **changes}
