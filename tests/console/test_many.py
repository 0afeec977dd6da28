"""The console with many objects: ticked tables, legs of a check and of a run, marks, and feeds."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest
from playwright.sync_api import Page, expect
from tests.conftest import Place

expect.set_options(timeout=20_000)


@pytest.fixture
def huts(place: Place) -> Place:
    """A database of three tables, and a schema to copy them into."""
    path = place.stack.files / f"{place.name}.sqlite"
    with closing(sqlite3.connect(path)) as session:
        for name in ("booking", "guest", "payment"):
            session.execute(f"CREATE TABLE {name} (id integer primary key, v text)")
            session.execute(f"INSERT INTO {name} VALUES (1, 'x'), (2, 'y')")
        session.commit()
    place.client.add_connection(f"{place.name}-huts", "sqlite", {"path": str(path)})
    place.sql("CREATE SCHEMA {t}")
    return place


def test_ticked_tables_become_a_job_whose_legs_are_followed(page: Page, huts: Place) -> None:
    page.goto(f"{huts.stack.url}/new-job")
    page.locator("#from-connection").select_option(f"{huts.name}-huts")
    page.locator("#into-connection").select_option("warehouse")
    objects = page.get_by_role("region", name="Objects")
    page.get_by_label("Find objects").fill("guest")
    expect(objects.get_by_role("checkbox")).to_have_count(1)
    page.get_by_label("Find objects").fill("")
    for name in ("booking", "payment"):
        objects.get_by_label(name).check()
    expect(page.get_by_text("2 chosen")).to_be_visible()
    page.locator("#into-object").fill(huts.name)
    page.locator("#mode").select_option("upsert")
    page.get_by_role("button", name="Draft the job").click()
    file = page.get_by_test_id("job-file")
    expect(file).to_contain_text("tables: [booking, payment]")
    page.get_by_role("button", name="Check").click()
    check = page.get_by_test_id("check")
    expect(check).to_contain_text("2 legs, the worst first")
    expect(check.get_by_role("row").filter(has_text=f"{huts.name}.booking")).to_contain_text("passed")
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Run").click()
    legs = page.get_by_test_id("legs")
    expect(legs).to_contain_text("2 legs")
    expect(page.get_by_test_id("run-state")).to_contain_text("succeeded")
    expect(legs.get_by_role("row").filter(has_text="payment")).to_contain_text("succeeded")
    legs.get_by_role("button", name="payment").click()
    expect(page.get_by_test_id("leg")).to_contain_text(f"warehouse:{huts.name}.payment")
    expect(page.get_by_test_id("tally")).to_contain_text("adds up")


def test_the_rest_of_a_run_is_run_from_its_page(page: Page, huts: Place) -> None:
    huts.sql("CREATE TABLE {t}.guest (id date)")
    text = (
        f"ultravect: 1\njob: {huts.name}\nfrom: {{connection: {huts.name}-huts, tables: ['*'], newer: {{by: id}}}}\n"
        f"into: {{connection: warehouse, table: '{huts.name}.{{table}}'}}\n"
    )
    huts.client.save_job(huts.name, text)
    run = huts.run()
    page.goto(f"{huts.stack.url}/runs/{run.id}")
    row = page.get_by_test_id("legs").get_by_role("row").nth(1)
    expect(row).to_contain_text("guest")
    expect(row).to_contain_text("failed")
    huts.sql("DROP TABLE {t}.guest")
    page.get_by_role("button", name="Run the rest").click()
    expect(page.get_by_test_id("legs")).to_contain_text("1 leg")
    expect(page.get_by_test_id("run-state")).to_contain_text("succeeded")
    page.goto(f"{huts.stack.url}/jobs/{huts.name}?drawer=runs")
    marks = page.get_by_test_id("marks")
    marks.get_by_text("How far it has copied").click()
    expect(marks.get_by_role("row").filter(has_text="booking")).to_contain_text("id: 2")
    page.on("dialog", lambda dialog: dialog.accept())
    marks.get_by_role("row").filter(has_text="booking").get_by_role("button", name="Reset").click()
    expect(marks.get_by_role("row").filter(has_text="booking")).to_contain_text("none yet")


def test_a_feed_shows_its_days_its_files_and_a_draft(page: Page, place: Place) -> None:
    folder = place.stack.files / place.name
    folder.mkdir()
    (folder / "north-1.csv").write_text("Nr,Hut\n1,007\n")
    (folder / "north-2.csv").write_text("Number,Refuge\n1,007\n")
    place.client.save_feed(
        place.name,
        f"ultravect: 1\nfeed: {place.name}\nconnection: incoming\nfiles: '{place.name}/*'\n"
        "columns: [{name: id, type: integer}, {name: hut, type: text(4)}]\n"
        f"providers: {{north: {{files: '{place.name}/north-*', versions: [{{columns: [Nr as id, Hut as hut]}}]}}}}\n",
    )
    text = f"ultravect: 1\njob: {place.name}\nfrom: {{feed: {place.name}}}\ninto: {{connection: warehouse, table: {place.name}}}\n"
    place.client.save_job(place.name, text)
    assert place.run().state == "succeeded"
    page.goto(f"{place.stack.url}/feeds")
    row = page.get_by_role("row").filter(has=page.get_by_role("link", name=place.name, exact=True))
    expect(row).to_contain_text("1 loaded")
    row.get_by_role("link", name=place.name).click()
    expect(page.get_by_test_id("days").get_by_role("row").filter(has_text="north")).to_contain_text("1 unmatched")
    files = page.get_by_test_id("files")
    expect(files.get_by_role("row").filter(has_text="north-1.csv")).to_contain_text("loaded")
    files.get_by_label("State").select_option("unmatched")
    expect(files.get_by_role("row").filter(has_text="north-1.csv")).to_have_count(0)
    files.get_by_role("button", name="Draft a version").click()
    expect(page.get_by_test_id("drafted")).to_contain_text("Number")
