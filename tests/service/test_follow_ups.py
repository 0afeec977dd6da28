"""What follows a run: its rejects are filtered, written to files and loaded again; its changes are shown; it is undone."""

from __future__ import annotations

import csv
import io
import json

import pytest
from tests.conftest import Place

from ultravect.client import ApiError, Run

BROKEN = "id,name,day\n1,Ana,2026-01-02\nx,Zoë,2026-01-03\n3,Bo,2026-13-01\n4,Cy\n"
TYPED = '["id integer", "name", "day date"]'
TAGGED = '["id integer", "name", "run_id() as load_run text(20)"]'


def refusal(place: Place, action: str, run: Run) -> str:
    with pytest.raises(ApiError) as raised:
        getattr(place.client, action)(run.id)
    assert raised.value.status == 409
    return raised.value.code


def test_rejects_are_filtered_and_written_to_files(place: Place) -> None:
    place.file(BROKEN).job(columns=TYPED, into="rejects: 5")
    run = place.run()
    client = place.client

    def rows(**asked: str) -> list[int]:
        return [item.row for item in client.rejects(run.id, **asked).items]  # type: ignore[arg-type]

    assert rows() == [2, 3, 4]
    assert (rows(column="id"), rows(column=""), rows(search="zoë"), rows(object="none")) == ([2], [4], [2], [])
    lines = [json.loads(line) for line in client.rejects_file(run.id, "jsonl").decode().splitlines()]
    assert next((item["row"], item["column"], item["record"]) for item in lines) == (2, "id", "x,Zoë,2026-01-03")
    table = list(csv.DictReader(io.StringIO(client.rejects_file(run.id, "csv", column="day").decode())))
    assert [(item["row"], item["value"]) for item in table] == [("3", "2026-13-01")]


def test_rejects_are_loaded_once_after_a_fix(place: Place) -> None:
    place.file(BROKEN).job(columns=TYPED, into="rejects: 5")
    first = place.run()
    place.file(BROKEN.replace("x,", "2,").replace("2026-13-01", "2026-12-01"))
    second = place.client.wait(place.client.retry_rejects(first.id).id)
    leg = second.legs[0]
    assert (second.kind, second.origin, second.state) == ("rejects", first.id, "succeeded")
    assert leg.tally is not None
    assert (leg.tally["read"], leg.tally["inserted"], leg.rejected) == (3, 2, 1)
    assert [row[0] for row in place.rows()] == [1, 2, 3]
    assert [(item.id, item.kind) for item in place.client.show(first.id).followed_by] == [(second.id, "rejects")]
    assert refusal(place, "retry_rejects", first) == "run-followed"
    # what it rejected is its own; the job may be what is fixed
    place.file(BROKEN.replace("4,Cy", "4,Cy,"))
    third = place.client.wait(place.client.retry_rejects(second.id).id)
    assert (third.state, place.rows()[-1][:2]) == ("succeeded", (4, "Cy"))
    assert refusal(place, "retry_rejects", third) == "no-rejects"


def test_names_of_objects_keep_the_day_of_the_first_run(place: Place) -> None:
    """However many runs of rejects of rejects are between."""
    text = place.file(BROKEN).job(columns=TYPED, into="rejects: 5")
    place.client.save_job(place.name, text.replace(f"table: {place.name}", f'table: "{place.name}_{{run_date}}"'))
    first = place.run()
    place.stack.postgres.execute(
        f"UPDATE records_run SET queued_at = '2026-01-31 12:00+00' WHERE id = {first.id}", "ultravect"
    )
    place.file(BROKEN.replace("x,", "2,"))
    second = place.client.wait(place.client.retry_rejects(first.id).id)
    place.file(BROKEN.replace("4,Cy", "4,Cy,"))
    third = place.client.wait(place.client.retry_rejects(second.id).id)
    assert (second.state, third.state) == ("succeeded", "succeeded")
    rows = place.sql('SELECT id FROM "{t}_2026-01-31" ORDER BY 1')
    assert rows == [(2,), (4,)]


def test_rejects_of_a_table_or_of_a_failed_run_are_not_found_again(place: Place) -> None:
    place.file(BROKEN).job(columns=TYPED)
    assert refusal(place, "retry_rejects", place.run()) == "nothing-written"
    assert refusal(place, "undo", place.run()) == "nothing-written"
    place.sql("CREATE TABLE {t}_source AS SELECT 'x' AS id")
    text = f"ultravect: 1\njob: {place.name}\nfrom: {{connection: warehouse, table: {place.name}_source}}\n"
    text += f"columns: [id integer]\ninto: {{connection: warehouse, table: {place.name}_typed, rejects: 1}}\n"
    place.client.save_job(place.name, text)
    assert refusal(place, "retry_rejects", place.run()) == "rejects-not-found"


def test_rejects_of_a_table_are_loaded_by_their_keys(place: Place) -> None:
    place.sql("CREATE TABLE {t}_source (hut text, day int, nights text, PRIMARY KEY (hut, day))")
    place.sql("INSERT INTO {t}_source VALUES ('007', 1, '2'), ('007', 2, 'two'), ('012', 1, 'x')")
    text = f"ultravect: 1\njob: {place.name}\nfrom: {{connection: warehouse, table: {place.name}_source}}\n"
    text += f"columns: [nights integer]\ninto: {{connection: warehouse, table: {place.name}, rejects: 2}}\n"
    place.client.save_job(place.name, text)
    first = place.run()
    rejects = place.client.rejects(first.id).items
    assert [reject.place for reject in rejects] == ["hut 007, day 2", "hut 012, day 1"]
    assert [json.loads(reject.record)["nights"] for reject in rejects] == ["two", "x"]
    place.sql("UPDATE {t}_source SET nights = '3' WHERE day = 2")
    place.sql("DELETE FROM {t}_source WHERE nights = 'x'")
    second = place.client.wait(place.client.retry_rejects(first.id).id)
    assert second.legs[0].tally is not None
    assert (second.state, second.legs[0].tally["read"], second.legs[0].tally["inserted"]) == ("succeeded", 1, 1)
    assert sorted(place.rows()) == [(2,), (3,)]


def test_what_an_upsert_changed_is_shown(place: Place) -> None:
    place.file("id,name\n1,Ana\n2,Zoë\n").job(into="mode: upsert, keys: [id]")
    place.run()
    place.file("id,name\n1,Ann\n2,Zoë\n3,Bo\n3,Cy\n")
    run = place.run()
    changes = place.client.changes(run.id)
    assert [(item.kind, item.columns, item.before, item.after) for item in changes.items] == [
        ("repeated", ["id", "name"], ["3", "Bo"], ["3", "Cy"]),
        ("updated", ["id", "name"], ["1", "Ana"], ["1", "Ann"]),
    ]
    assert place.client.changes(run.id, kind="updated").total == 1
    place.job(into="mode: upsert, keys: [id], samples: 0")
    place.file("id,name\n1,Anna\n")
    assert place.client.changes(place.run().id).items == []


def test_an_overwrite_is_compared_by_key_and_undone(place: Place) -> None:
    kept = "SELECT relname::text FROM pg_class WHERE relname LIKE 'ultravect_previous%' ORDER BY 1"
    others = place.sql(kept)
    place.file("id,name\n1,Ana\n2,Zoë\n").job(into="mode: overwrite, keys: [id], keep_previous: 1")
    place.run()
    before = place.rows()
    place.file("id,name\n2,Zoe\n3,Bo\n")
    run = place.run()
    assert run.legs[0].comparison == {"added": 1, "gone": 1, "changed": 1, "equal": 0}
    assert sorted(item.kind for item in place.client.changes(run.id).items) == ["added", "gone", "updated"]
    undo = place.client.wait(place.client.undo(run.id).id)
    assert (undo.kind, undo.state, undo.legs[0].rows_after) == ("undo", "succeeded", 2)
    assert place.rows() == before
    assert refusal(place, "undo", run) == "run-followed"
    assert refusal(place, "undo", undo) == "undo-refused"
    assert place.sql(kept) == others


def test_an_undo_that_cannot_be_fails_and_says_why(place: Place) -> None:
    place.file("id,name\n1,Ana\n").job(columns=TAGGED)
    run = place.run()
    place.sql("DELETE FROM {t}")
    undo = place.client.wait(place.client.undo(run.id).id)
    assert undo.error is not None
    assert (undo.state, undo.error["code"]) == ("failed", "undo-refused")
    assert "holds 0 rows of run" in undo.error["detail"]
    # a failed one may be tried again
    place.sql(f"INSERT INTO {{t}} VALUES (1, 'Ana', '{run.id}')")
    assert place.client.wait(place.client.undo(run.id).id).state == "succeeded"
    assert place.rows() == []
    assert refusal(place, "retry_rejects", run) == "run-undone"
