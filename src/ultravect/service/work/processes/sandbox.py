"""Starts the processes that others are forked from in a namespace of their own, where this machine has the program ``bwrap`` for that.

In there are the Python that runs them, the libraries of the system, and the folders that the service was started with; no other file of
the machine, and no other process: neither the service's memory nor its environment. What code could do that got in by a file, a server
or a library ends at the connections that the process was given. ULTRAVECT_SANDBOX: ``auto`` (left out), ``off`` or ``required``.
"""

from __future__ import annotations

import functools
import importlib.util
import os
import shutil
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from importlib.metadata import entry_points
from pathlib import Path

import structlog

from ultravect.core.kinds.registry import GROUP

log = structlog.get_logger()
_SYSTEM = ("/usr", "/bin", "/sbin", "/lib", "/lib64", "/lib32")
_SETTINGS = (
    "ca-certificates", "ssl", "pki", "hosts", "host.conf", "resolv.conf", "nsswitch.conf", "gai.conf", "services", "protocols",
    "localtime", "timezone", "ld.so.cache", "ld.so.conf", "ld.so.conf.d", "alternatives", "passwd", "group", "mysql",
)  # fmt: skip
_SEES = ("/sys/devices/system/cpu", "/sys/fs/cgroup")
_TRY_SECONDS = 20
# of a service that runs as root: files of roots that are others' can still be read and written
_KEPT = "CAP_DAC_OVERRIDE"


def confined(command: Sequence[str], roots: Sequence[str], scratch: str) -> list[str]:
    """The command, in a namespace where that can be had. ``scratch``: a folder that it has as /tmp."""
    wanted = os.environ.get("ULTRAVECT_SANDBOX", "auto")
    if wanted == "off":
        return list(command)
    around = _around(roots, scratch)
    if _works(tuple(_around([], None))):
        return [*around, *command]
    if wanted == "required":
        raise RuntimeError(
            "ULTRAVECT_SANDBOX is required, and bwrap is not installed, or may not make namespaces here"
        )
    return list(command)


def new_scratch() -> str:
    """A folder for what a process puts aside."""
    return tempfile.mkdtemp(prefix="ultravect-work-")


def remove_scratch(folder: str | None) -> None:
    if folder is not None:
        shutil.rmtree(folder, ignore_errors=True)


@functools.cache
def _works(around: tuple[str, ...]) -> bool:
    """Whether a namespace can be made here; said once where it cannot."""
    why = "bwrap is not installed"
    if shutil.which("bwrap"):
        try:
            done = subprocess.run([*around, "true"], capture_output=True, timeout=_TRY_SECONDS, text=True)
            if done.returncode == 0:
                return True
            why = " ".join(done.stderr.split())[:200]
        except (OSError, subprocess.TimeoutExpired) as error:
            why = str(error)[:200]
    log.warning("legs and looks run without a namespace of their own", reason=why)
    return False


def _around(roots: Sequence[str], scratch: str | None) -> list[str]:
    """What stands before a command: the program, and what is to be seen in the namespace."""
    found = ["bwrap", "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--cap-drop", "ALL"]
    if os.geteuid() == 0:
        found += ["--cap-add", _KEPT]
    for path in _SYSTEM:
        if os.path.islink(path):
            found += ["--symlink", os.readlink(path), path]
        elif os.path.isdir(path):
            found += ["--ro-bind", path, path]
    for name in _SETTINGS:
        found += ["--ro-bind-try", f"/etc/{name}", f"/etc/{name}"]
    for path in _SEES:
        found += ["--ro-bind-try", path, path]
    found += ["--proc", "/proc", "--dev", "/dev"]
    if scratch is not None:
        found += ["--bind", scratch, "/tmp", "--setenv", "TMPDIR", "/tmp"]
    for path in sorted(set(_of_python())):
        found += ["--ro-bind-try", path, path]
    for root in sorted({os.path.realpath(root) for root in roots}):
        found += ["--bind-try", root, root]
    return [*found, "--chdir", "/", "--"]


def _of_python() -> Iterator[str]:
    """What Python is run from, and where it finds our packages, kinds of other packages, and certificates that are named."""
    yield from (sys.prefix, sys.base_prefix, sys.exec_prefix, os.path.dirname(os.path.realpath(sys.executable)))
    here = os.getcwd()
    yield from (path for path in sys.path if path and os.path.exists(path) and os.path.realpath(path) != here)
    for name in {"ultravect", *(point.module.partition(".")[0] for point in entry_points(group=GROUP))}:
        spec = importlib.util.find_spec(name)
        for folder in (spec.submodule_search_locations or ()) if spec else ():
            yield str(Path(folder))
    if certificates := os.environ.get("SSL_CERT_FILE"):
        yield certificates


def take_credentials(ours: socket.socket) -> None:
    """Has the other end's first message say who sends it, by the numbers of processes that are known here."""
    ours.setsockopt(socket.SOL_SOCKET, socket.SO_PASSCRED, 1)


def sender_of(ours: socket.socket) -> int:
    """The process that sends a line, its first, as this process knows it; what the line says is not read.

    ConnectionResetError where it has ended before.
    """
    pid = 0
    line = b""
    while not line.endswith(b"\n"):
        part, about, _, _ = ours.recvmsg(1, socket.CMSG_SPACE(12))
        if not part:
            raise ConnectionResetError("the process ended before it began")
        for level, kind, data in about:
            if level == socket.SOL_SOCKET and kind == socket.SCM_CREDENTIALS and not pid:
                pid = int.from_bytes(data[:4], sys.byteorder)
        line += part
    ours.setsockopt(socket.SOL_SOCKET, socket.SO_PASSCRED, 0)
    return pid
