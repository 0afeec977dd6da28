"""Two runs of a job compared: by the API, its client and the command line."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from tests.conftest import Place

from ultravect.client import ApiError, Differences

PROGRAM = str(Path(sys.executable).parent / "ultravect")


def _found(compared: Differences, part: str) -> dict[str, tuple[str, str]]:
    return {item.name: (item.before, item.after) for item in compared.items if item.part == part}


def test_a_run_is_compared_with_the_one_before(place: Place) -> None:
    place.file("id,hut\n1,ALP\n2,FAL\n").job()
    first = place.run()
    with pytest.raises(ApiError) as raised:
        place.client.differences(first.id)
    assert raised.value.code == "run-alone"
    # the same again: nothing but what is written to the table differs
    second = place.run()
    same = place.client.differences(second.id)
    assert (same.before.id, same.after.id, same.file) == (first.id, second.id, [])
    assert _found(same, "start") == {}
    assert _found(same, "plan")["definitions"][1] == ""
    assert _found(same, "result") == {"rows in the target": ("2", "4")}
    assert set(_found(same, "time")) == {"read", "shape", "stage", "publish", "verify", "in all"}
    # another file of the job, another of rows
    place.file("id,hut,beds\n3,GRA,12\n")
    place.job(into="mode: overwrite, if_different: rebuild", columns="[id, hut, 'beds as beds decimal(6,1)']")
    third = place.run()
    compared = place.client.differences(third.id)
    assert any(line.startswith("+") and "overwrite" in line for line in compared.file)
    assert _found(compared, "start") == {"revision": ("1", "2")}
    plan = _found(compared, "plan")
    assert plan["column beds"] == ("", "numeric(6,1)")
    assert plan["strategy"][0] == "direct"
    assert _found(compared, "result")["read"] == ("2", "1")
    # with one that is named, and not with one of another job
    assert place.client.differences(third.id, first.id).before.id == first.id
    other = Place(place.stack, place.client).file("a\n1\n")
    other.job()
    with pytest.raises(ApiError) as raised:
        place.client.differences(third.id, other.run().id)
    assert raised.value.code == "runs-of-two-jobs"
    with pytest.raises(ApiError) as raised:
        place.client.differences(third.id, 10**9)
    assert raised.value.status == 404


def test_a_failed_run_and_its_parameters_are_compared(place: Place) -> None:
    place.file("id\n1\n")
    place.client.save_job(
        place.name,
        f"ultravect: 1\njob: {place.name}\nparameters: {{least: 0}}\n"
        f"from: {{connection: incoming, files: {place.name}.csv, where: 'id > :least'}}\ncolumns: [id integer]\n"
        f"into: {{connection: warehouse, table: {place.name}}}\n",
    )
    place.run()
    place.file("id\nx\n")
    failed = place.client.wait(place.client.run(place.name, parameters={"least": 5}).id)
    compared = place.client.differences(failed.id)
    assert _found(compared, "start") == {":least": ("0", "5")}
    result = _found(compared, "result")
    assert (result["state"], result["error"][0]) == (("succeeded", "failed"), "")
    environment = os.environ | {
        "ULTRAVECT_URL": place.stack.url,
        "ULTRAVECT_TOKEN": place.stack.token,
        "COLUMNS": "140",
    }
    done = subprocess.run([PROGRAM, "differences", str(failed.id)], env=environment, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr
    for part in (
        f"run {failed.id} of {place.name}, compared with run {compared.before.id}",
        ":least",
        "succeeded",
        "failed",
    ):
        assert part in done.stdout
