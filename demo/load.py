"""Loads the demo into a running service: files, connections and jobs; runs them and tells what happened."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from demo.generate import write
from ultravect.cli.output import print_run
from ultravect.client import Client, Run
from ultravect.core.model.document import read_job

JOBS = Path(__file__).parent / "jobs"


def load(client: Client, files: Path, warehouse: Mapping[str, object], rows: int = 4000) -> list[Run]:
    """Gives the runs of the demo's jobs, ended."""
    write(files, rows)
    known = {connection.name for connection in client.connections()}
    if "incoming" not in known:
        client.add_connection("incoming", "folder", {"path": str(files)})
    if "warehouse" not in known:
        client.add_connection("warehouse", "postgresql", dict(warehouse))
    runs = []
    for path in sorted(JOBS.glob("*.yaml")):
        text = path.read_text("utf-8")
        job, _ = read_job(text)
        client.save_job(job.job, text)
        runs.append(client.wait(client.run(job.job).id))
        print_run(runs[-1])
    return runs
