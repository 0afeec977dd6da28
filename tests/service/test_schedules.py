"""Jobs that are run by themselves: by schedules, after other jobs, and again when something passed."""

from __future__ import annotations

import datetime as dt
import os
import signal
import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest
from devtools.stack import Stack, temporary_stack
from tests.conftest import Place

from ultravect.client import ApiError, Client

_YEARLY = 'schedule: {cron: "0 0 1 1 *", timezone: Pacific/Auckland'


def _until(reached: Callable[[], bool]) -> None:
    for _ in range(300):
        if reached():
            return
        threading.Event().wait(0.1)
    raise AssertionError("it did not come so far")


def _due(place: Place, moment: dt.datetime) -> None:
    """Makes this the next time of the job's schedules, as if the clock had moved."""
    place.stack.postgres.execute(
        f"UPDATE records_schedule SET next_at = '{moment.isoformat()}' WHERE job_id = (SELECT id FROM records_job WHERE name = '{place.name}')",
        "ultravect",
    )


def _runs(place: Place) -> list[tuple[object, ...]]:
    return place.stack.postgres.execute(
        "SELECT r.id, r.trigger, r.scheduled_for, r.run_date, r.state FROM records_run r JOIN records_job j ON j.id = r.job_id "
        f"WHERE j.name = '{place.name}' ORDER BY r.id",
        "ultravect",
    )


def _now() -> dt.datetime:
    return dt.datetime.now(dt.UTC).replace(microsecond=0)


def test_each_time_starts_one_run_whoever_looks_first(stack: Stack, client: Client) -> None:
    places = [Place(stack, client) for _ in range(6)]
    for place in places:
        place.file("a\n1\n")
        place.client.save_job(
            place.name,
            f"ultravect: 1\njob: {place.name}\nparameters: {{scheduled_at: none}}\n"
            f"from: {{connection: incoming, files: {place.name}.csv}}\ncolumns: [a, ':scheduled_at as at']\n"
            f"into: {{connection: warehouse, table: {place.name}}}\nrun: {{{_YEARLY}}}}}\n",
        )
    worker = stack.start_worker()
    try:
        # 23:30 in UTC is the next day in Auckland
        moment = dt.datetime.combine(_now().date() - dt.timedelta(days=1), dt.time(23, 30), dt.UTC)
        for place in places:
            _due(place, moment)
        for place in places:
            _until(lambda place=place: [run[4] for run in _runs(place)] == ["succeeded"])  # type: ignore[misc]
            ((_, trigger, scheduled_for, run_date, _),) = _runs(place)
            assert (trigger, scheduled_for, run_date) == ("schedule", moment, _now().date())
            ((_, at),) = place.rows()
            assert dt.datetime.fromisoformat(str(at)) == moment
            (schedule,) = client.schedules(job=place.name)
            assert schedule.last_for == moment
            assert schedule.next[0] > _now()
            assert len(schedule.next) == 5
    finally:
        worker.send_signal(signal.SIGTERM)
        worker.wait(timeout=20)


@pytest.mark.parametrize(("missed", "started"), [("once", 1), ("none", 0)])
def test_times_that_were_missed(place: Place, missed: str, started: int) -> None:
    place.file("a\n1\n").job(run=f'schedule: {{cron: "* * * * *", missed: {missed}}}')
    old = _now() - dt.timedelta(days=1)
    # the newest of them is made up for, not all; a time that has just come is not missed
    place.stack.postgres.execute(
        f"UPDATE records_schedule SET declared = jsonb_set(declared, '{{cron}}', '\"0 0 * * *\"'), next_at = '{old.isoformat()}' "
        f"WHERE job_id = (SELECT id FROM records_job WHERE name = '{place.name}')",
        "ultravect",
    )
    _until(lambda: bool(place.client.schedules(job=place.name)[0].last_for))
    (schedule,) = place.client.schedules(job=place.name)
    assert len(_runs(place)) == started
    assert schedule.last_for is not None
    assert schedule.last_for.time() in (dt.time(), old.time())
    assert bool(schedule.left_out) == (not started)


def test_a_run_that_is_not_over_keeps_the_next_one_out(place: Place) -> None:
    place.file("a\n1\n").job(run=f"{_YEARLY}, overlap: skip}}")
    assert place.run().state == "succeeded"
    with place.locked():
        waiting = place.start()
        _due(place, _now())
        _until(lambda: bool(place.client.schedules(job=place.name)[0].left_out))
    assert place.client.wait(waiting.id).state == "succeeded"
    assert len(_runs(place)) == 2
    assert f"run {waiting.id} " in place.client.schedules(job=place.name)[0].left_out


def test_paused_schedules_start_nothing(place: Place) -> None:
    place.file("a\n1\n").job(run=f"{_YEARLY}}}")
    (paused,) = place.client.pause_schedules(place.name, "the hut is closed")
    assert paused.paused is not None
    assert (paused.paused.by, paused.paused.why, paused.next) == ("warden", "the hut is closed", [])
    _due(place, _now())
    threading.Event().wait(1.5)
    assert _runs(place) == []
    # what is saved meanwhile changes nothing of it, and times that came are not made up for
    place.job(run=f"{_YEARLY}, overlap: skip}}")
    assert place.client.schedules(job=place.name)[0].paused is not None
    (resumed,) = place.client.resume_schedules(place.name)
    assert resumed.next[0] > _now()
    threading.Event().wait(1)
    assert _runs(place) == []
    place.job()
    assert place.client.schedules(job=place.name) == []
    with pytest.raises(ApiError) as none:
        place.client.pause_schedules(place.name, "why")
    assert none.value.code == "job-without-schedule"


def test_a_schedule_of_a_job_that_is_removed(place: Place) -> None:
    place.file("a\n1\n").job(run=f"{_YEARLY}}}")
    place.client.remove_job(place.name)
    assert place.client.schedules(job=place.name) == []
    place.job(run=f"{_YEARLY}}}")
    assert len(place.client.schedules(job=place.name)) == 1


def test_past_times_are_made_up_for(place: Place) -> None:
    place.file("a\n1\n").job(run='schedule: {cron: "15 2 * * *", timezone: Europe/Zurich}')
    runs = place.client.fill(place.name, "2026-03-28", "2026-03-30")
    assert [run.scheduled_for for run in runs] == [
        dt.datetime(2026, 3, 28, 1, 15, tzinfo=dt.UTC),
        dt.datetime(2026, 3, 29, 1, 15, tzinfo=dt.UTC),
        dt.datetime(2026, 3, 30, 0, 15, tzinfo=dt.UTC),
    ]
    assert [place.client.wait(run.id).state for run in runs] == ["succeeded"] * 3
    assert [str(run[3]) for run in _runs(place)] == ["2026-03-28", "2026-03-29", "2026-03-30"]
    for first, last, code in (
        ("2099-01-01", "2099-01-02", "range-empty"),
        ("2026-03-30", "2026-03-28", "input-invalid"),
        ("2020-01-01", "2026-01-01", "input-invalid"),
    ):
        with pytest.raises(ApiError) as refused:
            place.client.fill(place.name, first, last)
        assert refused.value.code == code


def test_a_job_is_run_after_others(stack: Stack, client: Client) -> None:
    daily = 'schedule: {cron: "0 0 * * *"}'
    first, second, last = (Place(stack, client) for _ in range(3))
    for place in (first, second):
        place.file("a\n1\n").job(run=daily)
    last.file("a\n1\n").job(run=f"after: [{first.name}, {second.name}]")
    day = _now().date() - dt.timedelta(days=3)
    moment = dt.datetime.combine(day, dt.time(), dt.UTC)
    client.fill(first.name, str(day), str(day))
    _until(lambda: [run[4] for run in _runs(first)] == ["succeeded"])
    threading.Event().wait(1.5)
    assert _runs(last) == []
    # a run that fails for this time does not count, and one for another time neither
    second.job(run=daily, columns="[a, missing]")
    client.fill(second.name, str(day), str(day))
    _until(lambda: [run[4] for run in _runs(second)] == ["failed"])
    second.job(run=daily)
    client.fill(second.name, str(day + dt.timedelta(days=1)), str(day + dt.timedelta(days=1)))
    _until(lambda: [run[4] for run in _runs(second)] == ["failed", "succeeded"])
    threading.Event().wait(1.5)
    assert _runs(last) == []
    client.fill(second.name, str(day), str(day))
    _until(lambda: [run[4] for run in _runs(last)] == ["succeeded"])
    ((_, trigger, scheduled_for, run_date, _),) = _runs(last)
    assert (trigger, scheduled_for, run_date) == ("after", moment, day)
    # what had succeeded before a job waits for it is not made up for; what succeeds for long ago counts
    late = Place(stack, client).file("a\n1\n")
    late.job(run=f"after: [{first.name}]")
    long_ago = day - dt.timedelta(days=100)
    client.fill(first.name, str(long_ago), str(long_ago))
    _until(lambda: [(run[4], run[3]) for run in _runs(late)] == [("succeeded", long_ago)])


def test_a_job_after_others_has_their_time_in_their_zone(stack: Stack, client: Client) -> None:
    first, second, last = (Place(stack, client).file("a\n1\n") for _ in range(3))
    first.job(run='schedule: {cron: "0 6 * * *", timezone: Asia/Kathmandu}')
    second.job(run=f"after: [{first.name}]")
    client.save_job(
        last.name,
        f"ultravect: 1\njob: {last.name}\nparameters: {{scheduled_at: none}}\n"
        f"from: {{connection: incoming, files: {last.name}.csv}}\ncolumns: [a, ':scheduled_at as at text(40)']\n"
        f"into: {{connection: warehouse, table: {last.name}}}\nrun: {{after: [{second.name}]}}\n",
    )
    day = _now().date() - dt.timedelta(days=3)
    client.fill(first.name, str(day), str(day))
    _until(lambda: [run[4] for run in _runs(last)] == ["succeeded"])
    assert last.rows() == [(1, f"{day}T06:00:00+05:45")]


def test_jobs_do_not_wait_in_a_circle(stack: Stack, client: Client) -> None:
    one, two, three = (Place(stack, client).file("a\n1\n") for _ in range(3))
    one.job()
    two.job(run=f"after: [{one.name}]")
    three.job(run=f"after: [{two.name}]")
    for after, code in ((three.name, "jobs-in-circle"), (one.name, "jobs-in-circle"), ("no-such-job", "job-unknown")):
        with pytest.raises(ApiError) as refused:
            one.job(run=f"after: [{after}]")
        assert refused.value.code == code
    assert f"{one.name} after {three.name} after {two.name} after {one.name}" in _circle(one, three.name)


def _circle(place: Place, after: str) -> str:
    with pytest.raises(ApiError) as refused:
        place.job(run=f"after: [{after}]")
    return refused.value.detail


def test_a_leg_is_tried_again_when_what_was_in_the_way_passes(place: Place) -> None:
    place.file("a\n1\n").job()
    assert place.run().state == "succeeded"
    place.job(into="lock_wait: 1 s", run="retry: {attempts: 5, wait: 1 s}")
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].attempts >= 2)
    ended = place.client.wait(run.id)
    assert (ended.state, ended.error) == ("succeeded", None)
    assert len(place.rows()) == 2
    said = [str(event.data.get("text")) for event in place.client.follow(run.id) if event.kind == "log"]
    assert any("attempt 1 failed, and is made again in" in text and "target-locked" in text for text in said)
    # what does not pass by itself is not tried again, and attempts end
    place.file("a\nx,y\n").job(columns="[a, missing]", run="retry: {wait: 1 s}")
    assert place.run().attempts == 1
    place.file("a\n1\n").job(into="lock_wait: 1 s", run="retry: {attempts: 2, wait: 1 s}")
    with place.locked():
        ended = place.run()
    assert (ended.state, ended.attempts) == ("failed", 2)
    assert ended.error is not None
    assert ended.error["code"] == "target-locked"
    assert len(place.rows()) == 2


def test_times_are_shown_while_they_are_written(client: Client) -> None:
    assert len(client.next_times("15 2 * * *", "Europe/Zurich")) == 5
    for cron, zone in (("0 0 31 2 *", "UTC"), ("0 0 * * *", "Nowhere")):
        with pytest.raises(ApiError) as refused:
            client.next_times(cron, zone)
        assert refused.value.code == "input-invalid"


def test_a_load_is_compared_with_the_last_ones(place: Place) -> None:
    text = (
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: {place.name}.csv}}\ncolumns: [a integer]\n"
        f"into: {{connection: warehouse, table: {place.name}, mode: overwrite}}\nguard: {{rows_read: {{within: 50 %}}}}\n"
    )
    place.file("a\n" + "1\n" * 100)
    place.client.save_job(place.name, text)
    for decided in (None, None, None, True):
        run = place.run()
        assert run.state == "succeeded"
        assert [guard.passed for guard in run.legs[0].guards or ()] == [decided]
    place.file("a\n" + "1\n" * 40)
    run = place.run()
    assert (run.state, run.outcome) == ("failed", "nothing")
    assert run.error is not None
    assert run.error["code"] == "guard-not-met"
    assert "within 50 % of 100, the median of the last 4 runs" in run.error["detail"]
    assert len(place.rows()) == 100


def test_old_records_are_removed(tmp_path: Path) -> None:
    settings = {"ULTRAVECT_KEEP_RUNS": "30", "ULTRAVECT_KEEP_REJECTS": "7", "ULTRAVECT_TIDY_SECONDS": "0.5"}
    with temporary_stack("old", settings=settings) as stack, Client(stack.url, token=stack.token) as client:
        execute = partial(stack.postgres.execute, database="ultravect")
        place = Place(stack, client).file("a\n1\nx\n")
        place.job(columns="[a integer]", into="rejects: 1")
        runs = [place.run().id for _ in range(3)]
        # of more than fifty runs, the old ones go; rows of rejects before
        columns = "job_id, revision_id, queued_at, ended_at, stop_requested, attempts, outcome, kind, trigger, noted"
        execute(
            f"INSERT INTO records_run ({columns}, state, parameters) "
            "SELECT job_id, revision_id, now(), now(), false, 1, outcome, kind, trigger, true, state, parameters "
            f"FROM records_run, generate_series(1, 49) WHERE id = {runs[2]}"
        )
        execute(f"UPDATE records_run SET ended_at = now() - interval '40 days' WHERE id = {runs[0]}")
        execute(f"UPDATE records_run SET ended_at = now() - interval '8 days' WHERE id = {runs[1]}")
        rejects = "SELECT run_id, count(r.id) FROM records_leg l LEFT JOIN records_reject r ON r.leg_id = l.id GROUP BY 1 ORDER BY 1"
        _until(lambda: execute(rejects) == [(runs[1], 0), (runs[2], 1)])
        assert client.show(runs[1]).state == "succeeded"


def _left_out(place: Place) -> str:
    return place.client.schedules(job=place.name)[0].left_out


class _Looks:
    """Has files looked for, as if the schedule's next minute had come."""

    def __init__(self, place: Place) -> None:
        self.place = place

    def next(self) -> str:
        """Why no run was started; "" where one was."""
        before = len(_runs(self.place))
        self.place.stack.postgres.execute(
            "UPDATE records_schedule SET left_out = 'waiting' "
            f"WHERE job_id = (SELECT id FROM records_job WHERE name = '{self.place.name}')",
            "ultravect",
        )
        _due(self.place, _now())
        # it is made "" when the time is taken, before files are looked for
        _until(lambda: _left_out(self.place) not in ("waiting", "") or len(_runs(self.place)) > before)
        return _left_out(self.place)


def _arriving(place: Place, newer: str = "{files: {changed: fail}}") -> Path:
    """A job that is run for new files of a folder of its own."""
    folder = place.stack.files / place.name
    folder.mkdir()
    place.client.save_job(
        place.name,
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: '{place.name}/*.csv', newer: {newer}}}\n"
        f"into: {{connection: warehouse, table: {place.name}}}\n"
        "run: {schedule: {cron: '0 0 1 1 *', only_if: new_files}}\n",
    )
    return folder


def test_a_run_is_started_once_files_have_arrived(place: Place) -> None:
    folder = _arriving(place)
    looked = _Looks(place)
    assert looked.next() == "no file was new"
    (folder / "first.csv").write_text("a\n1\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"])
    assert place.rows() == [(1,)]
    assert looked.next() == "no file was new"
    (folder / "second.csv").write_text("a\n2\n")
    (folder / "third.csv").write_text("a\n3\n")
    with place.locked():
        assert looked.next() == ""
        assert "was not over yet" in looked.next()
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"] * 2)
    assert place.rows() == [(1,), (2,), (3,)]
    # one that was copied, and is another one now, is refused: one run says so, and not one a minute
    (folder / "first.csv").write_text("a\n11\n")
    assert "changed since" in looked.next()
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded", "succeeded", "failed"])
    assert "changed since" in looked.next()
    assert [run[-1] for run in _runs(place)] == ["succeeded", "succeeded", "failed"]


def test_files_that_still_change_have_not_arrived(place: Place) -> None:
    folder = _arriving(place, "{files: {settled: 1 h}}")
    looked = _Looks(place)
    (folder / "growing.csv").write_text("a\n1\n")
    assert looked.next() == "no file was new"
    early = (_now() - dt.timedelta(hours=2)).timestamp()
    os.utime(folder / "growing.csv", (early, early))
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"])


def test_the_same_files_are_not_tried_again_and_again(place: Place) -> None:
    folder = _arriving(place)
    looked = _Looks(place)
    (folder / "wrong.csv").write_text("a,b\n1\n")
    place.sql("CREATE TABLE {t} (a integer NOT NULL)")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["failed"])
    assert looked.next().endswith(f"and run {_runs(place)[0][0]} was for the same: it failed")
    assert len(_runs(place)) == 1
    (folder / "wrong.csv").write_text("a\n1\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["failed", "succeeded"])


def test_files_of_many_targets_start_one_run(place: Place) -> None:
    """A part of the path names the target: each has its own mark, and all new files are of one run."""
    folder = place.stack.files / place.name
    for hut in ("alp", "fal"):
        (folder / hut).mkdir(parents=True)
    place.client.save_job(
        place.name,
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: '{place.name}/{{hut}}/*.csv', newer: files}}\n"
        f"into: {{connection: warehouse, table: '{place.name}_{{hut}}'}}\n"
        "run: {schedule: {cron: '0 0 1 1 *', only_if: new_files}}\n",
    )
    looked = _Looks(place)
    assert looked.next() == "no file was new"
    (folder / "alp" / "1.csv").write_text("a\n1\n")
    (folder / "fal" / "1.csv").write_text("a\n2\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"])
    assert looked.next() == "no file was new"
    (folder / "fal" / "2.csv").write_text("a\n3\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"] * 2)
    held = [place.sql(f"SELECT a FROM {{t}}_{hut} ORDER BY 1") for hut in ("alp", "fal")]
    assert held == [[(1,)], [(2,), (3,)]]


def test_files_of_a_feed_start_a_run_and_those_that_fit_no_version_one_that_says_so(place: Place) -> None:
    folder = place.stack.files / place.name
    folder.mkdir()
    place.client.save_feed(
        place.name,
        f"ultravect: 1\nfeed: {place.name}\nconnection: incoming\nfiles: '{place.name}/*.csv'\nsettled: 5 s\n"
        f"columns: [{{name: a, type: integer}}]\nproviders: {{north: {{files: '{place.name}/*.csv', versions: [{{columns: [a]}}]}}}}\n",
    )
    place.client.save_job(
        place.name,
        f"ultravect: 1\njob: {place.name}\nfrom: {{feed: {place.name}, allow_none: true}}\n"
        f"into: {{connection: warehouse, table: {place.name}}}\nrun: {{schedule: {{cron: '0 0 1 1 *', only_if: new_files}}}}\n",
    )

    def file(name: str, content: str, seconds_ago: int = 60) -> None:
        (folder / name).write_text(content)
        moment = _now().timestamp() - seconds_ago
        os.utime(folder / name, (moment, moment))

    looked = _Looks(place)
    assert looked.next() == "no file was new"
    file("growing.csv", "a\n1\n", seconds_ago=-3600 * 24)
    file("1.csv", "a\n1\n")
    file("2.csv", "a\n2\n", seconds_ago=0)
    file("odd.csv", "b\n1\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"])
    states = {file.path.rpartition("/")[2]: file.state for file in place.client.feed_files(place.name).items}
    assert {name: states.get(name) for name in ("1.csv", "odd.csv")} == {"1.csv": "loaded", "odd.csv": "unmatched"}
    # what fits no version is known by now, and starts nothing until it is another file
    file("2.csv", "a\n2\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"] * 2)
    assert looked.next() == "no file was new"
    file("odd.csv", "a\n5\n")
    assert looked.next() == ""
    _until(lambda: [run[-1] for run in _runs(place)] == ["succeeded"] * 3)
    assert place.sql("SELECT a FROM {t} WHERE a IN (2, 5) ORDER BY 1") == [(2,), (5,)]


def test_only_for_new_files_needs_marks_of_files(place: Place) -> None:
    text = (
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: a.csv}}\n"
        "into: {connection: warehouse, table: x}\nrun: {schedule: {cron: '* * * * *', only_if: new_files}}\n"
    )
    with pytest.raises(ApiError) as raised:
        place.client.save_job(place.name, text)
    assert "goes with from.newer: files or from.feed" in str(raised.value.errors)
