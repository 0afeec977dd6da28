"""The environment of the service holds its secrets; here they are put where the processes that it starts, and others, cannot read them.

The system shows the environment with which a program was started to all that may look at the process. So the program is started anew, in
place of itself, with what every program needs and nothing else; all other variables come to it in memory alone.
"""

from __future__ import annotations

import json
import os
import sys

from ultravect.service.work.processes.sandbox import close_to_others

_SHOWN = ("PATH", "HOME", "LANG", "LC_ALL", "TZ", "LD_LIBRARY_PATH", "PYTHONPATH", "VIRTUAL_ENV", "SSL_CERT_FILE")
_HANDED = "ULTRAVECT_HANDED_ON"


def hide_environment() -> None:
    """Starts this program anew without its secrets in what others see; returns in the one that was started, with all variables set."""
    handed = os.environ.pop(_HANDED, "")
    if not handed:
        everything = os.memfd_create("environment")
        os.write(everything, json.dumps(dict(os.environ)).encode())
        os.lseek(everything, 0, os.SEEK_SET)
        os.set_inheritable(everything, True)
        shown = {name: os.environ[name] for name in _SHOWN if name in os.environ}
        sys.stdout.flush()
        os.execve(sys.executable, sys.orig_argv, {**shown, _HANDED: str(everything)})
    with open(int(handed), "rb") as stream:
        os.environ.update(json.load(stream))
    close_to_others()
