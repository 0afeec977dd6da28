"""Backs up the records into one file, and restores them: by PostgreSQL's own programs, which read one consistent state."""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from ultravect import __version__
from ultravect.service.sealing import Keys, SealBroken

_FACTS, _DUMP = "facts.json", "records.dump"
_WORD = {"what": "the key of these records"}
_MOST_FACTS = 1 << 20


class BackupError(Exception):
    """Why a backup cannot be made or restored; the text says what to do."""


def back_up(url: str, keys: Keys, path: Path) -> int:
    """Writes all records into ``path``, which must not be there; its size in bytes.

    Secrets are in it as they are sealed; what shows whether a key opens them is in it, too.
    """
    if path.exists():
        raise BackupError(f"{path} is there already; name another file")
    facts = {"version": __version__, "sealed": keys.seal(_WORD)}
    with tempfile.TemporaryDirectory(dir=path.absolute().parent) as folder:
        dump, made = Path(folder) / _DUMP, Path(folder) / "made"
        _run("pg_dump", ["--format=custom", "--no-owner", "--no-privileges", f"--file={dump}"], url)
        with tarfile.open(made, "w") as archive:
            text = json.dumps(facts).encode()
            info = tarfile.TarInfo(_FACTS)
            info.size = len(text)
            archive.addfile(info, io.BytesIO(text))
            archive.add(dump, _DUMP)
        made.chmod(0o600)
        # whole, or not there
        made.rename(path)
    return path.stat().st_size


def restore(url: str, keys: Keys, path: Path) -> Mapping[str, Any]:
    """Puts the records of a backup into an empty database; what the backup says of itself."""
    try:
        with tarfile.open(path) as archive, tempfile.TemporaryDirectory() as folder:
            facts = _facts(archive, path)
            try:
                keys.unseal(facts["sealed"])
            except SealBroken:
                raise BackupError(
                    f"the secrets in {path} were sealed with another key than ULTRAVECT_KEY; restore with that key"
                ) from None
            if _tables(url):
                raise BackupError("the database of ULTRAVECT_DATABASE_URL is not empty; restore into a new one")
            dump = Path(folder) / _DUMP
            stored = archive.extractfile(_DUMP)
            if stored is None:
                raise BackupError(f"{path} is no backup of Ultravect: it has no {_DUMP}")
            with stored, dump.open("wb") as out:
                shutil.copyfileobj(stored, out, 1 << 20)
            _run(
                "pg_restore",
                ["--single-transaction", "--exit-on-error", "--no-owner", "--no-privileges", "--dbname="],
                url,
                dump,
            )
            return facts
    except (OSError, tarfile.TarError, KeyError) as error:
        raise BackupError(f"{path} cannot be read as a backup of Ultravect: {error}") from None


def _facts(archive: tarfile.TarFile, path: Path) -> dict[str, Any]:
    stored = archive.extractfile(_FACTS)
    try:
        facts = json.loads(stored.read(_MOST_FACTS)) if stored else None
    except ValueError:
        facts = None
    if not isinstance(facts, dict) or not isinstance(facts.get("sealed"), str):
        raise BackupError(f"{path} is no backup of Ultravect: it does not say what it is")
    return facts


def _tables(url: str) -> int:
    import psycopg

    with psycopg.connect(url) as opened:
        row = opened.execute(
            "SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'public' AND c.relkind = 'r'"
        ).fetchone()
    return int(row[0]) if row else 0


def _run(program: str, arguments: list[str], url: str, *files: Path) -> None:
    """Runs a program of PostgreSQL; the password goes by the environment, which others do not see."""
    if shutil.which(program) is None:
        raise BackupError(f"{program} is not installed here: it comes with the package postgresql-client")
    parts = urlsplit(url)
    environment = {
        **os.environ,
        "PGHOST": parts.hostname or "",
        "PGPORT": str(parts.port or 5432),
        "PGUSER": unquote(parts.username or ""),
        "PGPASSWORD": unquote(parts.password or ""),
        "PGDATABASE": unquote(parts.path.lstrip("/")),
    }
    arguments = [f"--dbname={environment['PGDATABASE']}" if item == "--dbname=" else item for item in arguments]
    done = subprocess.run([program, *arguments, *map(str, files)], env=environment, capture_output=True, text=True)
    if done.returncode:
        raise BackupError(f"{program} failed: {' '.join(done.stderr.split())[:500]}")
