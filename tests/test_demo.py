"""The demo, from nothing to its end; and the service that can be left running and stopped."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import httpx
from demo.generate import bookings, huts

ROOT = Path(__file__).parent.parent


def dev(*arguments: str) -> str:
    done = subprocess.run(
        [sys.executable, "-m", "devtools", *arguments], cwd=ROOT, capture_output=True, text=True, timeout=500
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_the_demo_runs_its_jobs_and_tells() -> None:
    shown = dev("demo", "--once", "--rows", "3000", "--nights", "2")
    for part in (
        "of bookings succeeded",
        "of huts succeeded",
        "read 3,000 = inserted 3,000",
        "read 40 = inserted 40",
        "(table created)",
        "of stays-archive succeeded",
        "of season-closing succeeded",
        "of season-lake succeeded",
        "2 nights pass",
        "guest-survey: failed",
        "the service is killed",
    ):
        assert part in shown


def test_serve_detached_and_stop(tmp_path: Path) -> None:
    tmp_path.chmod(0o755)
    state = str(tmp_path / "state")
    dev("serve", "--state", state, "--detach")
    facts = json.loads((tmp_path / "state" / "service.json").read_text())
    assert (
        httpx.get(f"{facts['url']}/api/v1/jobs", headers={"Authorization": f"Bearer {facts['token']}"}).json()[
            "total"
        ]
        == 0
    )
    assert "stopped" in dev("stop", "--state", state)
    assert "nothing was started" in dev("stop", "--state", state)


def test_the_generator_is_seeded_and_has_what_is_hard() -> None:
    rows = [[str(value) for value in row] for row in bookings(2000)]
    assert rows == [[str(value) for value in row] for row in bookings(2000)]
    columns = dict(zip(rows[0], zip(*rows[1:], strict=True), strict=True))
    assert all(len(code) == 3 for code in columns["hut_code"])
    assert any(code.startswith("0") for code in columns["hut_code"])
    assert "" in columns["agency_code"]
    assert any("\n" in remark for remark in columns["remark"])
    assert any('"' in remark for remark in columns["remark"])
    assert any("é" in name or "ö" in name for name in columns["guest_name"])
    assert len(list(huts())) == 41
