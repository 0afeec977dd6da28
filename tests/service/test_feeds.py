"""Feeds: files of many providers, each read in its own version, all in one table; and the register of them."""

from __future__ import annotations

import datetime as dt
import os
import subprocess
import sys
import threading
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from standins.messages import WebhookCatcher
from tests.conftest import Place
from tests.service.test_schedules import _until

from ultravect.client import ApiError, Run

FEED = """\
ultravect: 1
feed: {name}
connection: incoming
files: "{name}/*"
columns:
  - {{name: id, type: integer}}
  - {{name: hut, type: text(4)}}
providers:
  north:
    files: "{name}/north-*"
    versions:
      - columns: [Nr as id, Hut as hut]
      - columns: [Number as id, Hut as hut]
  south:
    files: "{name}/south-*"
    versions:
      - layout: {{format: delimited, delimiter: ";"}}
        columns: [id, hut]
{more}"""


class Agencies:
    """A folder of files, a feed of two providers, and a job."""

    def __init__(self, place: Place) -> None:
        self.place, self.client, self.name = place, place.client, place.name
        self.folder = place.stack.files / place.name
        self.folder.mkdir()
        self.save()

    def save(self, more: str = "") -> None:
        self.client.save_feed(self.name, FEED.format(name=self.name, more=more))

    def job(self, into: str = "") -> Agencies:
        text = (
            f"ultravect: 1\njob: {self.name}\nfrom: {{feed: {self.name}}}\n"
            'columns: ["*", provider() as provider text(20), version() as version text(5)]\n'
            f"into: {{connection: warehouse, table: {self.name}{into and ', ' + into}}}\n"
        )
        self.client.save_job(self.name, text)
        return self

    def file(self, name: str, content: str, days_ago: int = 0) -> None:
        path = self.folder / name
        path.write_text(content)
        moment = (dt.datetime.now() - dt.timedelta(days=days_ago, minutes=5)).timestamp()
        os.utime(path, (moment, moment))

    def run(self) -> Run:
        return self.client.wait(self.client.run(self.name).id)

    def rows(self) -> list[tuple[object, ...]]:
        return self.place.sql("SELECT id, hut, provider, version FROM {t} ORDER BY 1, 3")

    def states(self) -> dict[str, str]:
        return {Path(item.path).name: item.state for item in self.client.feed_files(self.name).items}


@pytest.fixture
def agencies(place: Place) -> Agencies:
    return Agencies(place).job()


def test_files_of_all_providers_become_one_table(agencies: Agencies) -> None:
    agencies.file("north-1.csv", "Nr,Hut\n1,007\n2,010\n")
    agencies.file("north-2.csv", "Number,Hut\n3,011\n")
    agencies.file("south-1.csv", "id;hut\n4;012\nx;013\n")
    agencies.job(into="rejects: 1")
    agencies.file("south-odd.csv", "identity;refuge\n1;2\n")
    agencies.file("stranger.csv", "a,b\n1,2\n")
    run = agencies.run()
    assert run.state == "succeeded", run.error
    assert [leg.object for leg in run.legs] == ["north 1", "north 2", "south 1"]
    assert agencies.rows() == [
        (1, "007", "north", "1"), (2, "010", "north", "1"), (3, "011", "north", "2"), (4, "012", "south", "1")
    ]  # fmt: skip
    assert agencies.states() == {
        "north-1.csv": "loaded", "north-2.csv": "loaded", "south-1.csv": "loaded", "south-odd.csv": "unmatched",
        "stranger.csv": "unmatched",
    }  # fmt: skip
    entries = {Path(item.path).name: item for item in agencies.client.feed_files(agencies.name).items}
    assert (entries["south-1.csv"].run, entries["south-1.csv"].rows, entries["south-1.csv"].rejected) == (
        run.id,
        2,
        1,
    )
    assert "nearest is" in str(entries["south-odd.csv"].reason)
    assert "no provider's pattern matches it" in str(entries["stranger.csv"].reason)
    findings = [
        event.data["code"] for event in agencies.client.events(run.id) if event.kind == "finding" and not event.leg
    ]
    assert findings == ["file-unmatched", "file-unmatched"]


def test_a_second_run_copies_only_new_files(agencies: Agencies) -> None:
    agencies.file("north-1.csv", "Nr,Hut\n1,007\n")
    agencies.run()
    nothing = agencies.run()
    assert (nothing.state, nothing.outcome, nothing.legs) == ("succeeded", "nothing", [])
    agencies.file("south-1.csv", "id;hut\n4;012\n")
    assert [leg.object for leg in agencies.run().legs] == ["south 1"]
    assert len(agencies.rows()) == 2
    (mark,) = agencies.client.marks(agencies.name)
    assert mark.files == 2
    agencies.client.reset_mark(agencies.name)
    assert len(agencies.run().legs) == 2
    assert len(agencies.rows()) == 4


def test_a_version_is_drafted_from_a_file_that_fits_none(agencies: Agencies) -> None:
    agencies.file("south-2026.csv", "ID|Hut|Beds\n4|012|2\n")
    agencies.run()
    lines = agencies.client.draft_feed_version(agencies.name, f"{agencies.name}/south-2026.csv")
    assert "delimiter: '|'" in lines
    assert "the file also has: Beds" in lines
    text = FEED.format(name=agencies.name, more="") + "\n".join(
        line for line in lines.splitlines() if not line.startswith("#")
    )
    agencies.client.save_feed(agencies.name, text)
    run = agencies.run()
    assert [leg.object for leg in run.legs] == ["south 2"], run.error
    assert agencies.rows() == [(4, "012", "south", "2")]


def test_a_file_of_two_providers_is_kept_aside(agencies: Agencies) -> None:
    text = FEED.format(name=agencies.name, more="").replace("/south-*", "/*-1.csv")
    agencies.client.save_feed(agencies.name, text)
    agencies.file("north-1.csv", "Nr,Hut\n1,007\n")
    assert agencies.run().legs == []
    assert agencies.states() == {"north-1.csv": "disputed"}


def test_a_file_that_fails_is_tried_again(agencies: Agencies) -> None:
    agencies.file("south-1.csv", "id;hut\nx;012\n")
    agencies.file("north-1.csv", "Nr,Hut\n1,007\n")
    run = agencies.run()
    assert {leg.object: leg.state for leg in run.legs} == {"north 1": "succeeded", "south 1": "failed"}
    assert agencies.states() == {"north-1.csv": "loaded", "south-1.csv": "failed"}
    agencies.file("south-1.csv", "id;hut\n5;012\n")
    assert [leg.object for leg in agencies.run().legs] == ["south 1"]
    assert agencies.states()["south-1.csv"] == "loaded"


def test_what_did_not_come_is_missing(agencies: Agencies) -> None:
    agencies.save("expected: daily by 00:00\ntimezone: Europe/Zurich\n")
    agencies.file("north-1.csv", "Nr,Hut\n1,007\n")
    if dt.datetime.now(ZoneInfo("Europe/Zurich")).strftime("%H:%M") >= "23:58":
        threading.Event().wait(121)  # the file and the question must be of one day
    agencies.run()
    days = agencies.client.feed_days(agencies.name, days=2)
    assert [provider.name for provider in days.providers] == ["north", "south"]
    today = {provider.name: provider.days[-1] for provider in days.providers}
    assert (today["north"].files, today["north"].missing) == ({"loaded": 1}, False)
    assert (today["south"].files, today["south"].missing) == ({}, True)
    assert not any(day.missing for provider in days.providers for day in provider.days[:-1])  # there was no feed yet


@pytest.mark.parametrize(
    ("old", "new", "code"),
    [
        ("Nr as id, Hut as hut", "Nr as id", "feed-column-missing"),
        ("Nr as id, Hut as hut", "Nr as id, Hut as hut, Beds", "feed-column-unknown"),
        ("Nr as id, Hut as hut", '"*"', "feed-column-unknown"),
        ("connection: incoming", "connection: nowhere", "connection-unknown"),
        ("type: integer", "type: intger", "feed-column-type"),
    ],
)
def test_a_feed_that_cannot_work_is_not_saved(agencies: Agencies, old: str, new: str, code: str) -> None:
    text = FEED.format(name=agencies.name, more="").replace(old, new, 1)
    with pytest.raises(ApiError) as refused:
        agencies.client.save_feed(agencies.name, text)
    assert refused.value.code == code


def test_a_feed_in_use_stays_and_an_unknown_one_is_named(agencies: Agencies) -> None:
    with pytest.raises(ApiError) as refused:
        agencies.client.remove_feed(agencies.name)
    assert refused.value.code == "feed-in-use"
    with pytest.raises(ApiError) as refused:
        agencies.client.save_job(
            "other", "ultravect: 1\njob: other\nfrom: {feed: none}\ninto: {connection: warehouse, table: t}\n"
        )
    assert refused.value.code == "feed-unknown"
    agencies.client.remove_job(agencies.name)
    agencies.client.remove_feed(agencies.name)
    assert agencies.name not in [feed.name for feed in agencies.client.feeds()]


def test_the_command_line_shows_a_feed(agencies: Agencies) -> None:
    agencies.file("north-1.csv", "Nr,Hut\n1,007\n")
    agencies.file("odd.csv", "a,b\n1,2\n")
    agencies.run()
    environment = {"ULTRAVECT_URL": agencies.place.stack.url, "ULTRAVECT_TOKEN": agencies.place.stack.token}

    def shown(*arguments: str) -> str:
        program = str(Path(sys.executable).parent / "ultravect")
        done = subprocess.run([program, "feed", *arguments], env=environment, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert "1 loaded" in shown("list", "--search", agencies.name)
    listed = shown("show", agencies.name)
    assert "north" in listed
    assert f"draft a version from one: ultravect feed draft {agencies.name} FILE" in listed
    assert "loaded" in shown("files", agencies.name, "--provider", "north")
    assert "PROVIDER:" in shown("draft", agencies.name, f"{agencies.name}/odd.csv")


def test_files_that_are_missing_or_fit_no_provider_are_said(agencies: Agencies) -> None:
    webhook = WebhookCatcher()
    try:
        agencies.client.save_notify_rule(
            agencies.name, ["missing", "unmatched"], webhook=webhook.url, jobs=[agencies.name]
        )
        agencies.job().file("north-1.csv", "Nr,Hut\n1,ALP\n")
        agencies.file("south-1.csv", "what,is,this\n1,2,3\n")
        agencies.run()
        _until(lambda: len(webhook.taken) == 1)
        (item,) = webhook.bodies()[0]["items"]
        assert (webhook.bodies()[0]["occasion"], item["job"]) == ("unmatched", agencies.name)
        assert "south-1.csv" in item["text"]
        # the same file is not said again
        agencies.file("north-2.csv", "Nr,Hut\n2,ALP\n")
        agencies.run()
        agencies.save("expected: daily by 00:00\n")
        execute = agencies.place.stack.postgres.execute
        mine = f"WHERE name = '{agencies.name}'"
        _until(lambda: bool(execute(f"SELECT 1 FROM records_feed {mine} AND expected_at > now()", "ultravect")))
        # a day of which south has sent nothing
        execute(f"UPDATE records_feed SET created_at = now() - interval '3 days' {mine}", "ultravect")
        execute("DELETE FROM records_feedentry WHERE provider IN ('south', '')", "ultravect")
        execute(f"UPDATE records_feed SET expected_at = date_trunc('day', now()) {mine}", "ultravect")
        _until(lambda: len(webhook.taken) == 2)
        (item,) = webhook.bodies()[1]["items"]
        assert webhook.bodies()[1]["occasion"] == "missing"
        assert "no run has seen a file of south by 00:00" in item["text"]
    finally:
        agencies.client.remove_notify_rule(agencies.name)
        webhook.close()
