"""A process that has everything a leg or a look needs in memory, and forks a process whenever it is asked to.

``python -m ultravect.service.work.processes.fork_server FD``: FD is a Unix socket to the service or worker, see ``ForkServer``. Each message on
it is ``leg`` or ``look``, with the file descriptor of another socket, over which the new process talks with whom it works for; or
``import`` and kinds of connections, whose packages are imported here when they are first used, instead of in each process.
A fork takes milliseconds, where starting Python and importing Arrow takes the better part of a second.
"""

from __future__ import annotations

import gc
import io
import logging
import os
import signal
import socket
import sys
from contextlib import suppress

from ultravect.core.engine.plan.leg_plan import ColumnPlan, prepare
from ultravect.core.engine.plan.source.scan import scan_columns
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.expressions.select_list import resolve
from ultravect.core.kinds.registry import preload
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.base import SourceFile
from ultravect.service.environment import close_to_others
from ultravect.service.work.processes.leg_process import serve_leg
from ultravect.service.work.processes.look_process import serve_look

_SAMPLE = (
    b"a,b,c,d,e,f\n1,007,2026-01-02,1.50,true,2026-01-02 03:04:05\n2,,2026-01-03,2.25,false,2026-01-02 03:04:06\n"
    b'3,"x, y",2026-01-04,,no,2026-01-02T03:04:05\n'
)


_USUAL = ("postgresql", "sqlite", "folder")
_MESSAGE = 4_096


def _warm_up() -> None:
    """Does once what is slow the first time. No thread may be started here: a fork takes none along."""
    preload(_USUAL)
    prepare()
    resolve(["a as z text(4)", "* except (a)"], ["a", "b"])
    reader = open_layout(
        SourceFile("sample.csv", len(_SAMPLE), lambda: io.BytesIO(_SAMPLE), lambda: io.BytesIO(_SAMPLE)), None
    )
    found = scan_columns(reader, range(len(reader.names))).columns
    columns = [
        ColumnPlan(position, column.name, column.name, column.type, "", reader.formats)
        for position, column in found.items()
    ]
    for block in reader.blocks():
        Shaper(reader, columns).shape(block)


def main() -> None:
    worker = socket.socket(fileno=int(sys.argv[1]))
    # each process that comes from here will have secrets of its own connections
    close_to_others()
    logging.basicConfig(stream=sys.stderr, level=logging.WARNING)
    logging.getLogger("psycopg").setLevel(logging.CRITICAL)
    # stopping is the worker's business: it closes the socket
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    _warm_up()
    # what is there by now stays where it is: pages that no one writes to are shared with all that come from here
    gc.collect()
    gc.freeze()
    try:
        worker.send(b"ready")
    except OSError:
        os._exit(0)  # what has started it is gone already
    while True:
        message, descriptors, _, _ = socket.recv_fds(worker, _MESSAGE, 1)
        if not message:
            os._exit(0)
        what, *kinds = message.decode().split()
        if what == "import":
            preload(kinds)
            continue
        with suppress(OSError):  # the machine has no more processes: who has asked for one sees its socket closed
            if os.fork() == 0:
                worker.close()
                os.setsid()
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                serve = serve_look if what == "look" else serve_leg
                serve(socket.socket(fileno=descriptors[0]))
        os.close(descriptors[0])


if __name__ == "__main__":
    main()
