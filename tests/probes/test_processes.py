"""What code that got in could reach: legs and looks have the connections that they were given, and nothing else of the service."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from devtools.service_processes import fork_server
from devtools.stack import Stack

from tests.conftest import Place
from ultravect.service.work.processes.sandbox import _around, _works, confined


def _secrets(stack: Stack) -> list[bytes]:
    return [secret.encode() for secret in (stack.key, stack.password, stack.postgres.password)]


def test_the_environment_of_the_service_shows_no_secret(stack: Stack) -> None:
    """What the system shows of the process, which is what was there when it was started."""
    assert stack.process is not None
    shown = Path(f"/proc/{stack.process.pid}/environ").read_bytes()
    assert [secret for secret in _secrets(stack) if secret in shown] == []
    assert b"ULTRAVECT_KEY" not in shown
    assert b"ULTRAVECT_DATABASE_URL" not in shown
    # the descriptor through which they came is closed
    for name in os.listdir(f"/proc/{stack.process.pid}/fd"):
        assert "memfd:environment" not in os.readlink(f"/proc/{stack.process.pid}/fd/{name}")


def test_the_service_and_its_legs_cannot_be_read_by_their_user(stack: Stack, place: Place) -> None:
    """Not dumpable: their files in /proc are root's, whatever user they run as, and nothing of them is dumped."""
    place.file("a\n1\n").job()
    place.run()
    assert stack.process is not None
    program = "import ctypes; print(ctypes.CDLL(None).prctl(3, 0, 0, 0, 0))"
    assert subprocess.run([sys.executable, "-c", program], capture_output=True, text=True).stdout == "1\n"
    program = (
        "import os, sys\nfrom ultravect.service.environment import hide_environment\n"
        "os.environ['ULTRAVECT_KEY'] = 'secret' if 'ULTRAVECT_HANDED_ON' not in os.environ else 'wrong'\n"
        "os.environ.pop('ULTRAVECT_KEY', None) if 'ULTRAVECT_HANDED_ON' in os.environ else None\n"
        "hide_environment()\nimport ctypes\n"
        "print(os.environ['ULTRAVECT_KEY'], ctypes.CDLL(None).prctl(3, 0, 0, 0, 0), b'secret' in open('/proc/self/environ', 'rb').read())\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=60)
    assert done.stdout == "secret 0 False\n", done.stderr


@pytest.fixture
def namespaces() -> None:
    if not shutil.which("bwrap") or not _works(tuple(_around([], None))):
        pytest.skip("this machine makes no namespaces")


@pytest.mark.usefixtures("namespaces")
def test_legs_and_looks_see_the_roots_and_no_other_file(stack: Stack, place: Place) -> None:
    place.file("a\n1\n").job()
    place.run()
    place.client.objects("incoming")
    for pid in [fork_server(stack.pid)]:
        root = Path(f"/proc/{pid}/root")
        assert (root / str(stack.files).lstrip("/")).is_dir()
        for hidden in (
            stack.state / "secrets",
            stack.state / "service.log",
            stack.postgres.folder,
            Path("/root/.ssh"),
            Path("/etc/shadow"),
            Path("/home"),
        ):
            assert not (root / str(hidden).lstrip("/")).exists(), hidden
        # of the processes of the machine, those that come from it
        numbers = [name for name in os.listdir(root / "proc") if name.isdigit()]
        assert "1" in numbers
        assert len(numbers) < 20
        status = dict(
            line.split(":\t", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":\t" in line
        )
        # CAP_DAC_OVERRIDE at most
        assert int(status["CapEff"], 16) & ~0b10 == 0


@pytest.mark.usefixtures("namespaces")
def test_code_in_a_leg_s_place_reads_nothing_of_the_service(stack: Stack, tmp_path: Path) -> None:
    """What an intruder would try: other processes' memory and environment, and files."""
    assert stack.process is not None
    program = (
        "import glob, os, sys\n"
        "found = b''\n"
        "for path in [*glob.glob('/proc/[0-9]*/environ'), *glob.glob('/proc/[0-9]*/cmdline')]:\n"
        "    try: found += open(path, 'rb').read()\n"
        "    except OSError: pass\n"
        "for path in sys.argv[1:]:\n"
        "    for above, _, files in os.walk(path) if os.path.isdir(path) else [('', [], [path])]:\n"
        "        for name in files:\n"
        "            try: found += open(os.path.join(above, name), 'rb').read(1 << 20)\n"
        "            except OSError: pass\n"
        "os.write(1, found)\n"
    )
    wanted = [
        stack.state / "kept.json",
        stack.state / "service.log",
        stack.state / "secrets",
        stack.postgres.folder,
        Path("/etc"),
    ]
    command = confined([sys.executable, "-c", program, *map(str, wanted)], [str(stack.files)], str(tmp_path))
    assert command[0] == "bwrap"
    # with the environment of a fork server
    known = {key: os.environ[key] for key in ("PATH", "HOME") if key in os.environ}
    done = subprocess.run(command, capture_output=True, timeout=100, env=known)
    assert done.returncode == 0, done.stderr
    assert [secret for secret in _secrets(stack) if secret in done.stdout] == []


@pytest.mark.parametrize("wanted", ["off", "auto"])
def test_without_namespaces_legs_run_all_the_same(monkeypatch: pytest.MonkeyPatch, wanted: str) -> None:
    monkeypatch.setenv("ULTRAVECT_SANDBOX", wanted)
    monkeypatch.setattr("ultravect.service.work.processes.sandbox._works", lambda _: False)
    assert confined(["true"], [], "/tmp") == ["true"]
    monkeypatch.setenv("ULTRAVECT_SANDBOX", "required")
    with pytest.raises(RuntimeError, match="bwrap"):
        confined(["true"], [], "/tmp")
