"""What this process is called where it works."""

from __future__ import annotations

import os
import socket


def worker_name() -> str:
    return f"{socket.gethostname()}:{os.getpid()}"
