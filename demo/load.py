"""Brings the demo into a running service: files, connections and jobs; runs them and says what happened."""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path

from demo.generate import write
from demo.places import write_files
from ultravect.cli.legs import print_run_or_legs
from ultravect.client import Client, Run
from ultravect.core.model.document import read_job

JOBS = Path(__file__).parent / "jobs"
NIGHTLY = Path(__file__).parent / "nightly"
FEEDS = Path(__file__).parent / "feeds"
LAYOUTS = Path(__file__).parent / "layouts"


Connections = Mapping[str, tuple[str, dict[str, object]]]


def declare(
    client: Client,
    files: Path,
    warehouse: Mapping[str, object],
    rows: int = 4000,
    others: Connections | None = None,
) -> None:
    """Makes the files, and saves connections, layouts, feeds and jobs; nothing runs.

    ``others``: kind and settings of further connections.
    """
    write(files, rows)
    write_files(files, rows)
    known = {connection.name for connection in client.connections()}
    if "incoming" not in known:
        client.add_connection("incoming", "folder", {"path": str(files)})
    if "warehouse" not in known:
        client.add_connection("warehouse", "postgresql", dict(warehouse))
    for name, (kind, settings) in (others or {}).items():
        if name not in known:
            client.add_connection(name, kind, settings)
    for path in sorted(LAYOUTS.glob("*.yaml")):
        client.save_layout(path.stem, path.read_text("utf-8"))
    for path in sorted(FEEDS.glob("*.yaml")):
        client.save_feed(path.stem, path.read_text("utf-8"))
    # a job that waits for others is saved after them
    texts = [path.read_text("utf-8") for folder in (JOBS, NIGHTLY) for path in sorted(folder.glob("*.yaml"))]
    for text in sorted(texts, key=lambda text: bool(read_job(text)[0].run.after)):
        client.save_job(read_job(text)[0].job, text)


def run_all(client: Client) -> list[Run]:
    """Gives the runs of the jobs that no night runs, ended; those that follow a log are started as streams."""
    runs = []
    for path in sorted(JOBS.glob("*.yaml")):
        job, _ = read_job(path.read_text("utf-8"))
        if job.follows_log:
            follow(client, job.job)
            continue
        runs.append(client.wait(client.run(job.job).id))
        print_run_or_legs(runs[-1])
    return runs


def follow(client: Client, job: str) -> None:
    """Starts a stream, and waits until its tables are copied."""
    found = client.start_stream(job)
    for _ in range(600):
        if found.state not in ("waiting", "snapshot"):
            break
        time.sleep(0.1)
        found = client.stream(job)
    print(
        f"the stream of {job} is {found.state}: {', '.join(f'{table.rows:,} rows of {table.object}' for table in found.tables)}"
    )
