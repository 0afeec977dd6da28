"""The processes of the service: ``python -m ultravect.service serve | worker | user | backup | restore``."""

from __future__ import annotations

import argparse
import asyncio
import gc
import getpass
import logging
import os
import signal
import sys
from contextlib import suppress

import structlog

from ultravect.service import telemetry
from ultravect.service.environment import hide_environment

_KEEP_ALIVE_SECONDS = 75


def _log() -> None:
    logging.basicConfig(
        stream=sys.stderr, level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s: %(message)s"
    )
    for noisy in ("psycopg", "psycopg.pool", "httpx", "uvicorn.access", "websockets"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
    logging.getLogger("django.request").setLevel(logging.ERROR)
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.format_exc_info,
            *([telemetry.sent_on] if telemetry.is_sent("logs") else []),
            structlog.processors.JSONRenderer(),
        ],
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


def _setup() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ultravect.service.settings")
    import django

    django.setup()


def _prepare_records() -> None:
    from ultravect.service.records.upgrade import alone, upgrade

    with alone():
        upgrade()
        _keep_uploads()


def _keep_uploads() -> None:
    """The managed connection of uploaded files is there for as long as the service takes uploads."""
    from django.conf import settings

    from ultravect.service.records.models import UPLOADS_NAME, Connection

    if settings.UPLOADS:
        os.makedirs(settings.UPLOADS, exist_ok=True)
        known, _ = Connection.objects.get_or_create(
            name=UPLOADS_NAME, defaults={"kind": "folder", "settings": {"path": settings.UPLOADS}}
        )
        if known.settings.get("path") != settings.UPLOADS:
            structlog.get_logger().warning("a connection called uploads is someone's own: nothing can be uploaded")


def _keep_what_is_loaded() -> None:
    """Classes and modules stay until the end: the collector of garbage need not go through them again and again."""
    gc.collect()
    gc.freeze()


async def _serve(host: str, port: int, slots: int) -> None:
    import uvicorn
    from django.conf import settings

    from ultravect.service.asgi import application
    from ultravect.service.protocol import PatientProtocol
    from ultravect.service.work.processes.look_pool import FORKS
    from ultravect.service.work.scheduling.scheduler import work_by_itself
    from ultravect.service.work.workers.remote_worker import PING_SECONDS
    from ultravect.service.work.workers.wire import MAX_MESSAGE
    from ultravect.service.work.workers.worker import run_worker

    config = uvicorn.Config(
        application,
        host=host,
        port=port,
        log_level="warning",
        access_log=False,
        lifespan="off",
        http=PatientProtocol,
        # of workers that join by HTTPS, which send longer texts in parts
        ws_max_size=MAX_MESSAGE,
        ws_ping_timeout=PING_SECONDS,
        # who a client is, and whether it came by TLS, only a proxy that is trusted may say
        proxy_headers=bool(settings.PROXIES),
        forwarded_allow_ips=settings.PROXIES or "",
        # longer than clients keep a connection: closing it under a request that is on its way would look like a failure
        timeout_keep_alive=_KEEP_ALIVE_SECONDS,
    )
    server = uvicorn.Server(config)
    tasks = [asyncio.create_task(server.serve())]
    following = asyncio.create_task(work_by_itself())
    warming = asyncio.create_task(asyncio.to_thread(FORKS.warm))
    if slots:
        tasks.append(asyncio.create_task(run_worker(slots)))
    structlog.get_logger().info("serving", url=f"http://{host}:{port}", slots=slots)
    _keep_what_is_loaded()
    done, pending = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    server.should_exit = True
    for task in pending:
        if task is not tasks[0]:
            task.cancel()
    for task in pending:
        with suppress(asyncio.CancelledError):
            await task
    following.cancel()
    with suppress(asyncio.CancelledError):
        await following
    await warming
    await asyncio.to_thread(FORKS.close)
    for task in done:
        task.result()


async def _work(slots: int, sites: list[str]) -> None:
    from ultravect.service.work.scheduling.scheduler import work_by_itself
    from ultravect.service.work.workers.sites import HOME
    from ultravect.service.work.workers.worker import run_worker

    task = asyncio.create_task(run_worker(slots, sites or [HOME]))
    following = asyncio.create_task(work_by_itself())
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, task.cancel)
    with suppress(asyncio.CancelledError):
        await task
    following.cancel()


async def _work_remotely(service: str, slots: int, sites: list[str], roots: list[str]) -> None:
    from ultravect.service.work.workers.remote_worker import work_remotely

    token = os.environ.pop("ULTRAVECT_WORKER_TOKEN", "")
    task = asyncio.create_task(work_remotely(service, token, slots, sites, roots))
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, task.cancel)
    with suppress(asyncio.CancelledError):
        await task


def _add_user(name: str, role: str, password: str | None) -> None:
    from django.contrib.auth.password_validation import validate_password
    from django.core.exceptions import ValidationError

    from ultravect.service.records.models import User

    if User.objects.filter(username=name).exists():
        sys.exit(f"there is a user {name!r} already")
    password = password or os.environ.get("ULTRAVECT_PASSWORD") or getpass.getpass(f"Password for {name}: ")
    try:
        validate_password(password)
    except ValidationError as error:
        sys.exit(" ".join(error.messages))
    User.objects.create_user(name, password=password, role=role)
    print(f"added user {name} with the role {role}")


def _back_up_or_restore(command: str, file: str) -> None:
    from pathlib import Path

    from django.core.exceptions import ImproperlyConfigured

    from ultravect.service.backup import BackupError, back_up, restore
    from ultravect.service.sealing import read_key

    url = os.environ.get("ULTRAVECT_DATABASE_URL", "")
    if not url:
        sys.exit("set ULTRAVECT_DATABASE_URL to the database of the records")
    try:
        keys = read_key(os.environ)
        if command == "backup":
            size = back_up(url, keys, Path(file))
            print(f"wrote all records into {file}, {size:,} bytes; keep ULTRAVECT_KEY apart from it")
            return
        facts = restore(url, keys, Path(file))
        _setup()
        _prepare_records()
        print(f"restored the records of version {facts['version']}; start the service: ultravect serve")
    except (BackupError, ImproperlyConfigured) as error:
        sys.exit(str(error))
    except Exception as error:
        sys.exit(f"the database cannot be reached, or used: {' '.join(str(error).split())[:300]}")


def main() -> None:
    if {"serve", "worker"} & {*sys.argv[1:2]}:
        hide_environment()
    parser = argparse.ArgumentParser(prog="ultravect")
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="web server and a local worker")
    serve.add_argument("--host", default="127.0.0.1")
    serve.add_argument("--port", type=int, default=8484)
    serve.add_argument("--slots", type=int, default=2, help="runs at once of the local worker; 0: none")
    serve.add_argument("--root", action="append", default=[], help="a folder that folder connections may be in")
    worker = commands.add_parser("worker", help="another worker")
    worker.add_argument("--slots", type=int, default=2)
    worker.add_argument("--site", action="append", default=[], help="a site whose connections it reaches")
    worker.add_argument("--root", action="append", default=[], help="a folder that folder connections may be in")
    worker.add_argument("--service", help="the service's address, where nothing else of it is reached")
    for name, what in (("backup", "write all records into a file"), ("restore", "put them into an empty database")):
        commands.add_parser(name, help=what).add_argument("file")
    user = commands.add_parser("user", help="manage users")
    user_commands = user.add_subparsers(dest="action", required=True)
    add = user_commands.add_parser("add")
    add.add_argument("name")
    add.add_argument("--role", choices=["viewer", "operator", "editor", "admin"], default="editor")
    arguments = parser.parse_args()
    if getattr(arguments, "root", None):
        os.environ["ULTRAVECT_ROOTS"] = ":".join(os.path.abspath(root) for root in arguments.root)
    _log()
    if arguments.command == "worker" and arguments.service:
        from ultravect.core.errors import UltravectError

        # it has neither the records nor the key
        try:
            roots = [os.path.abspath(root) for root in arguments.root]
            asyncio.run(_work_remotely(arguments.service, arguments.slots, arguments.site, roots))
        except UltravectError as error:
            sys.exit(f"{error.detail}\n{error.hint}")
        return
    from django.core.exceptions import ImproperlyConfigured
    from django.db import OperationalError

    if arguments.command in ("backup", "restore"):
        _back_up_or_restore(arguments.command, arguments.file)
        return

    try:
        _setup()
        _prepare_records()
    except ImproperlyConfigured as error:
        sys.exit(str(error))
    except OperationalError as error:
        wrong = "is the server of ULTRAVECT_DATABASE_URL running, and are its address, user and password right?"
        sys.exit(f"the service's database cannot be reached: {error}\n{wrong}")
    if arguments.command == "serve":
        asyncio.run(_serve(arguments.host, arguments.port, arguments.slots))
    elif arguments.command == "worker":
        asyncio.run(_work(arguments.slots, arguments.site))
    else:
        _add_user(arguments.name, arguments.role, None)


if __name__ == "__main__":
    main()
