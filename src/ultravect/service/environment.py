"""The environment of the service holds its secrets; here they are put where the processes that it starts, and others, cannot read them.

The system shows the environment with which a program was started to all that may look at the process. So the program is started anew, in
place of itself, with what every program needs and nothing else; all other variables come to it in memory alone. That is the first thing
it does: this module imports nothing that takes long, which would be imported twice.
"""

from __future__ import annotations

import ctypes
import json
import os
import sys

# what a process for a leg or a look needs of the environment; secrets come with its task, never this way
_OF_LEGS = ("PATH", "HOME", "LANG", "LC_ALL", "TZ", "LD_LIBRARY_PATH", "PYTHONPATH", "SSL_CERT_FILE")
_SHOWN = (*_OF_LEGS, "VIRTUAL_ENV")
_HANDED = "ULTRAVECT_HANDED_ON"
_PR_SET_DUMPABLE = 4


def environment_of_legs() -> dict[str, str]:
    """The variables with which processes for legs and looks are started."""
    return {name: os.environ[name] for name in _OF_LEGS if name in os.environ}


def close_to_others() -> None:
    """From here on, other processes of this user cannot read this one's memory and environment (PR_SET_DUMPABLE); nor a core dump."""
    ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_DUMPABLE, 0, 0, 0, 0)


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
