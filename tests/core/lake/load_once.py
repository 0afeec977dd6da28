"""One upsert into the lake of a folder, for a test that kills it: ``load_once.py FOLDER FORMAT RUN [again]``."""

from __future__ import annotations

import sys
from pathlib import Path

from devtools.legs import run_leg
from devtools.pairs import Copied

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.model.document import job_from_data


def main(folder: Path, form: str, run: str, again: bool) -> None:
    job = job_from_data(
        {
            "ultravect": 1, "job": "modes",
            "from": {"connection": "incoming", "files": "coming.csv", "layout": {"format": "delimited", "header": True}},
            "into": {"connection": "season", "table": "modes", "mode": "upsert", "keys": ["k"]},
        }
    )  # fmt: skip
    source = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
    target = ConnectionSpec("season", "lake", {"path": str(folder / "lake"), "format": form}, [str(folder)])
    print("loading", flush=True)
    if again:
        run_leg(job, source, target, Copied(), receipt=f"{run}.2", earlier=[run])
    else:
        run_leg(job, source, target, Copied(), receipt=run)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2], sys.argv[3], len(sys.argv) > 4)
