"""The console in a browser: sign in, jobs, a job, its run while it happens, failures, roles, keyboard."""

from __future__ import annotations

import json
import re
import uuid

import httpx
from devtools.stack import USER, Stack
from playwright.sync_api import Browser, Page, Route, expect
from standins.messages import WebhookCatcher
from tests.conftest import Place
from tests.console.conftest import sign_in
from tests.service.test_streams import Live

from ultravect.client import Client

expect.set_options(timeout=20_000)


def test_a_wrong_password_is_reported(browser: Browser, stack: Stack) -> None:
    page = browser.new_page()
    page.set_default_timeout(90_000)
    page.goto(stack.url)
    page.get_by_label("User").fill(USER)
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("user and password do not match")
    page.close()


def test_the_jobs_show_their_last_runs(page: Page, place: Place) -> None:
    place.file("a\n1\n2\n").job()
    row = page.get_by_role("row").filter(has=page.get_by_role("link", name=place.name, exact=True))
    expect(row).to_contain_text("never run")
    place.run()
    # without loading the page anew
    expect(row).to_contain_text("succeeded")
    expect(row).to_contain_text(f"warehouse:{place.name}")
    page.get_by_label("Find jobs").fill("no job is called so")
    expect(page.get_by_text("No job is like that.")).to_be_visible()


def test_where_rows_go_is_a_form_in_step_with_the_file(page: Page, place: Place) -> None:
    place.sql("CREATE TABLE {t} (id int, name text)")
    place.sql("INSERT INTO {t} VALUES (1, 'Adlerhorst'), (2, 'Blauspitz')")
    text = place.file("id,name\n1,Adlerhorst\n2,Blue Peak\n3,Cold Corner\n").job()
    commented = text.replace("into: {", "into: # where to\n  {")
    place.client.save_job(place.name, commented)
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    file, form = page.get_by_test_id("job-file"), page.get_by_test_id("into")
    page.get_by_role("button", name="Check").click()
    expect(page.get_by_test_id("effect")).to_contain_text("adds rows to the 2 rows there")
    form.get_by_role("group", name="keys").get_by_role("button", name="id").click()
    form.get_by_label("upsert").check()
    expect(file).to_contain_text("mode: upsert")
    expect(file).to_contain_text("where to")
    expect(page.get_by_test_id("effect")).to_contain_text("of the first 3 keys, 2 would match")
    expect(page.get_by_test_id("check")).to_contain_text("key-without-index")
    form.get_by_label("repeats").select_option("fail")
    expect(file).to_contain_text("repeats: fail")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog").get_by_test_id("diff")).to_contain_text("mode: upsert")
    page.get_by_role("button", name="Save revision").click()
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_test_id("tally")).to_have_text(
        re.compile(r"1\s*inserted.*1\s*updated.*1\s*unchanged.*✓ adds up")
    )
    expect(page.get_by_text("rows in the target: 2 before, 3 after")).to_be_visible()


def test_a_misspelt_key_is_put_right_by_its_fix(page: Page, place: Place) -> None:
    text = place.file("a\n1\n").job()
    place.client.save_job(place.name, text)
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    file = page.get_by_test_id("job-file")
    expect(file).to_contain_text("files: ")
    file.get_by_text("files:").first.click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(text.replace("files: ", "filez: "))
    page.get_by_role("button", name="Check").click()
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("unknown key 'filez'")
    alert.get_by_role("button", name="Apply fix").first.click()
    expect(file).not_to_contain_text("filez")
    page.get_by_role("button", name="Check").click()
    expect(page.get_by_test_id("check")).to_contain_text("✓ passed")


def test_where_rows_come_from_is_a_form_and_a_fix_is_applied(page: Page, place: Place) -> None:
    place.sql("CREATE TABLE {t} (hut_id int, name text)")
    text = place.file("hut_id,nme\n1,Adlerhorst\n2,Blauspitz\n").job()
    place.client.save_job(place.name, text.replace("files: ", "files:  ") + "# the end\n")
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    file, form = page.get_by_test_id("job-file"), page.get_by_test_id("from")
    page.get_by_role("tab", name="Rows").click()
    expect(page.get_by_test_id("from-rows")).to_contain_text("Blauspitz")
    page.get_by_role("tab", name="Findings").click()
    form.get_by_label("where").fill("hut_id > 1")
    form.get_by_label("where").press("Enter")
    expect(file).to_contain_text("where: hut_id > 1")
    page.get_by_role("button", name="Check").click()
    check = page.get_by_test_id("check")
    expect(check).to_contain_text("nme as name")
    check.get_by_role("button", name="Apply fix").click()
    expect(file).to_contain_text("nme as name")
    expect(file).to_contain_text("# the end")
    expect(check).to_contain_text("✓ passed")
    page.locator("#from-object").fill("no-such.csv")
    page.locator("#from-object").press("Enter")
    page.get_by_role("tab", name="Rows").click()
    expect(page.get_by_test_id("from-rows")).to_contain_text("no-such.csv")


def test_a_job_is_checked_and_run(page: Page, place: Place) -> None:
    place.file("a,b\n1,x\n2,y\n").job()
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    expect(page.get_by_test_id("job-file")).to_contain_text(f"job: {place.name}")
    page.get_by_role("button", name="Check").click()
    check = page.get_by_test_id("check")
    expect(check).to_contain_text("✓ passed")
    page.get_by_role("tab", name="Statements").click()
    expect(page.get_by_role("tabpanel")).to_contain_text("CREATE TABLE")
    expect(page.get_by_test_id("effect")).to_contain_text("creates the table")
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_test_id("run-state")).to_have_text(re.compile("succeeded"))
    expect(page.get_by_test_id("tally")).to_have_text(re.compile(r"2\s*read\s*=\s*2\s*inserted.*✓ adds up"))
    expect(page.get_by_text("rows in the target: 0 before, 2 after")).to_be_visible()
    assert len(place.rows()) == 2


def test_source_and_target_are_compared(page: Page, place: Place) -> None:
    place.file("a,b\n1,x\n2,y\n").job(into="mode: upsert, keys: [a]")
    place.run()
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    page.get_by_role("button", name="Compare").click()
    comparison = page.get_by_test_id("comparison")
    expect(comparison).to_contain_text("✓ equal")
    place.sql("UPDATE {t} SET b = 'z' WHERE a = 2")
    place.sql("INSERT INTO {t} VALUES (3, NULL)")
    page.get_by_role("button", name="Compare").click()
    expect(comparison).to_contain_text("✗ not equal")
    expect(comparison).to_contain_text("1 only in the target, 1 different")
    expect(comparison.get_by_role("row").filter(has_text="different")).to_have_text(
        re.compile(r"2\s*different\s*b\s*y\s*z")
    )
    expect(comparison).to_be_in_viewport()
    comparison.get_by_role("button", name="Repair").click()
    expect(page).to_have_url(re.compile("/runs/"))
    expect(page.get_by_test_id("run-state")).to_have_text(re.compile("succeeded"))
    assert place.sql("SELECT b FROM {t} WHERE a = 2") == [("y",)]


def test_a_stream_is_started_seen_and_ended(page: Page, place: Place) -> None:
    live = Live(place)
    try:
        page.goto(f"{place.stack.url}/jobs/{place.name}")
        page.get_by_role("button", name="Start stream").click()
        expect(page).to_have_url(re.compile(f"/streams/{place.name}$"))
        expect(page.locator("dl").locator("[data-state=following]")).to_be_visible()
        live.sql("UPDATE booking SET nights = 30 WHERE id <= 5; DELETE FROM booking WHERE id = 6")
        row = page.get_by_role("region", name="Tables").get_by_role("row").filter(has_text="booking")
        expect(row).to_have_text(re.compile(r"booking\s*⇢\s*following\s*200\s*6\s*0\s*5\s*1\s*0"))
        expect(page.get_by_test_id("lag")).to_have_text(re.compile(r"\d+\.\d s"))
        expect(page.get_by_test_id("minutes")).to_contain_text("up to 6 rows a minute")
        page.get_by_role("button", name="Pause").click()
        expect(page.locator("dl").locator("[data-state=paused]")).to_be_visible()
        page.goto(f"{place.stack.url}/today")
        expect(page.get_by_role("region", name="What to look at")).to_contain_text(place.name)
        page.goto(f"{place.stack.url}/streams")
        page.get_by_role("link", name=place.name, exact=True).click()
        page.get_by_role("button", name="Resume").click()
        expect(page.locator("dl").locator("[data-state=following]")).to_be_visible()
        page.get_by_role("button", name="Remove…").click()
        page.get_by_role("button", name="Remove", exact=True).click()
        expect(page).to_have_url(re.compile(f"/jobs/{place.name}$"))
        expect(page.get_by_role("button", name="Start stream")).to_be_visible()
    finally:
        live.close()


def test_a_run_is_followed_while_it_happens_and_stopped(page: Page, place: Place) -> None:
    place.file("a\n1\n").job()
    place.run()
    with place.locked():
        page.goto(f"{place.stack.url}/jobs/{place.name}")
        page.get_by_role("button", name="Run").click()
        state = page.get_by_test_id("run-state")
        expect(state).to_have_text(re.compile("running"))
        phases = page.get_by_role("list", name="Phases").get_by_role("listitem")
        expect(phases.nth(2)).to_contain_text("running")
        expect(phases.nth(3)).to_contain_text("waiting")
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_role("dialog")).to_contain_text("1 leg is under way: what is staged is dropped")
        page.get_by_role("button", name="Stop it").click()
        expect(state).to_have_text(re.compile("stopped"))
    expect(page.get_by_role("button", name="Run again")).to_be_visible()
    assert len(place.rows()) == 1


def test_a_failed_run_shows_error_and_rejects(page: Page, place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int, b text)")
    place.file("a,b\n1,<b>bold</b>\n<script>,y\n").job()
    run = place.run()
    page.goto(f"{place.stack.url}/runs/{run.id}")
    expect(page.get_by_role("alert")).to_contain_text("column a: '<script>': not a number")
    expect(page.get_by_role("alert")).to_contain_text("Fix:")
    row = page.get_by_role("row").filter(has_text="not a number")
    expect(row).to_contain_text("<script>")
    with page.expect_download() as download:
        page.get_by_role("link", name="CSV").click()
    assert "<script>" in download.value.path().read_text()


def test_rejects_are_filtered_and_loaded_again_and_a_run_is_undone(page: Page, place: Place) -> None:
    columns = '["id integer", "name", "run_id() as load_run"]'
    place.file("id,name\n1,Ana\nx,Bo\n3\n").job(columns=columns, into="rejects: 5")
    run = place.run()
    page.goto(f"{place.stack.url}/runs/{run.id}")
    rejects = page.get_by_test_id("rejects")
    expect(rejects).to_contain_text("2 of 2")
    rejects.get_by_label("column of the rejects").select_option("id")
    expect(rejects).to_contain_text("1 of 1")
    rejects.get_by_label("search the rejects").fill("nothing like it")
    expect(rejects).to_contain_text("No reject is like that.")
    place.file("id,name\n1,Ana\n2,Bo\n3,Cy\n")
    rejects.get_by_role("button", name="Load them again").click()
    expect(page.get_by_test_id("tally")).to_have_text(re.compile(r"2\s*read\s*=\s*2\s*inserted"))
    page.get_by_role("link", name=f"run {run.id}", exact=True).click()
    expect(page.get_by_text("loads its rejects")).to_be_visible()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("run-state")).to_have_text(re.compile("succeeded"))
    expect(page.get_by_text(f"1 row of run {run.id} removed")).to_be_visible()
    assert [row[0] for row in place.rows()] == [2, 3]


def test_changed_rows_are_shown_before_and_after(page: Page, place: Place) -> None:
    place.file("id,name\n1,Ana\n2,Bo\n").job(into="mode: overwrite, keys: [id]")
    place.run()
    place.file("id,name\n1,Ann\n3,Cy\n")
    run = place.run().id
    asked: list[Route] = []

    def hold(route: Route) -> None:
        asked.append(route)
        if len(asked) == 1:
            route.continue_()

    # the page asks for its run again when the events end: not before something was chosen
    page.route(f"**/api/v1/runs/{run}", hold)
    page.goto(f"{place.stack.url}/runs/{run}")
    changes = page.get_by_test_id("changes")
    expect(changes).to_contain_text("1 added · 1 gone · 1 changed · 0 equal")
    expect(changes).to_contain_text(re.compile(r"− Ana\s*\+ Ann"))
    changes.get_by_role("button", name="gone").click()
    expect(changes).to_contain_text("Bo")
    with page.expect_response(f"**/api/v1/runs/{run}"):
        asked[1].continue_()
    page.wait_for_timeout(500)  # nothing shows that nothing happens
    expect(changes).to_contain_text("Bo")


def test_a_job_is_edited_and_saved_with_the_keyboard(page: Page, place: Place) -> None:
    place.file("a\n1\n").job()
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    editor = page.get_by_label("job file")
    editor.click()
    page.keyboard.press("Control+End")
    page.keyboard.type("# a remark")
    expect(page.get_by_text("not saved")).to_be_visible()
    expect(page.get_by_role("button", name="Run")).to_be_disabled()
    page.keyboard.press("Control+s")
    page.keyboard.press("Enter")
    expect(page.get_by_text("revision 2, saved")).to_be_visible()
    assert "# a remark" in place.client.job(place.name).file
    editor.click()
    page.keyboard.press("Control+End")
    page.keyboard.type("\nnonsense: 1")
    expect(page.get_by_role("alert")).to_contain_text("unknown key 'nonsense'")
    expect(page.locator(".cm-lint-marker, .cm-lintRange-error").first).to_be_visible()


def test_two_editors_do_not_overwrite_each_other_and_both_are_joined(page: Page, place: Place) -> None:
    place.file("a\n1\n")
    text = place.job()
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    file = page.get_by_label("job file")
    file.click()
    place.client.save_job(place.name, text.replace("from:", "about: by someone else\nfrom:"))
    page.keyboard.press("Control+End")
    page.keyboard.type("# by me")
    page.keyboard.press("Control+s")
    page.keyboard.press("Enter")
    merge = page.get_by_role("dialog")
    expect(merge).to_contain_text("You, in another window, has saved this job")
    expect(merge.get_by_label("their changes")).to_contain_text("about: by someone else")
    assert "# by me" not in place.client.job(place.name).file
    merge.get_by_role("button", name="Put both into the editor").click()
    expect(file).to_contain_text("by someone else")
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Save revision").click()
    expect(page.get_by_text("revision 3, saved")).to_be_visible()
    saved = place.client.job(place.name).file
    assert "about: by someone else" in saved
    assert "# by me" in saved


def test_lines_that_both_have_changed_are_chosen(page: Page, place: Place) -> None:
    text = place.file("a\n1\n").job(into="rejects: 1")
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    page.get_by_test_id("into").get_by_label("rejects").fill("3")
    page.get_by_test_id("into").get_by_label("rejects").press("Enter")
    place.client.save_job(place.name, text.replace("rejects: 1", "rejects: 2"))
    # the page sees it by itself
    page.get_by_role("button", name="See and merge").click(timeout=30_000)
    merge = page.get_by_role("dialog")
    expect(merge.get_by_role("group")).to_contain_text("Both changed these lines")
    merge.get_by_role("radio", name="theirs").check()
    merge.get_by_role("button", name="Put both into the editor").click()
    expect(page.get_by_label("job file")).to_contain_text("rejects: 2")


def test_what_is_not_saved_outlives_a_reload_and_revisions_come_back(page: Page, place: Place) -> None:
    text = place.file("a\n1\n").job(into="rejects: 1")
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    rejects = page.get_by_test_id("into").get_by_label("rejects")
    rejects.fill("5 %")
    rejects.press("Enter")
    expect(page.get_by_text("not saved")).to_be_visible()
    page.wait_for_timeout(600)  # until it is kept
    page.reload()
    expect(page.get_by_label("job file")).to_contain_text("rejects: 5 %")
    expect(page.get_by_text("What you had not saved")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Save revision").click()
    page.get_by_role("tab", name="Revisions").click()
    page.get_by_role("button", name="compare revision 1").click()
    expect(page.get_by_role("tabpanel").get_by_test_id("diff")).to_contain_text("rejects: 5 %")
    page.get_by_role("button", name="restore revision 1").click()
    expect(page.get_by_label("job file")).to_contain_text("rejects: 1")
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Save revision").click()
    expect(page.get_by_text("revision 3, saved")).to_be_visible()
    assert place.client.job(place.name).file == text


def test_from_a_file_to_a_verified_table(page: Page, place: Place) -> None:
    """At most ten clicks, counted in the page."""
    page.evaluate("window.clicks = 0; addEventListener('click', () => (window.clicks += 1), true)")
    page.get_by_role("link", name="New job").click()
    page.get_by_role("tab", name="A file of mine").click()
    content = b"hut_code,arrival,nights\n007,2026-07-01,2\n012,2026-07-02,3\n"
    page.get_by_label("File", exact=True).set_input_files(
        [{"name": f"{place.name}.csv", "mimeType": "text/csv", "buffer": content}]
    )
    page.locator("#into-connection").select_option("warehouse")
    page.get_by_role("button", name="Draft the job").click()
    expect(page.get_by_label("job file")).to_contain_text(f"files: {place.name}.csv")
    expect(page.get_by_role("status").filter(has_text="✓ passed").first).to_be_visible()
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Run").click()
    expect(page.get_by_test_id("run-state")).to_have_text(re.compile("succeeded"))
    expect(page.get_by_test_id("tally")).to_have_text(re.compile(r"2\s*read\s*=\s*2\s*inserted.*✓ adds up"))
    # a choice of a file and one of a list are clicks as well
    assert page.evaluate("window.clicks") + 2 <= 10
    assert place.sql("SELECT hut_code, nights FROM {t} ORDER BY 1") == [("007", 2), ("012", 3)]


def test_a_job_begins_with_a_query_or_another_job(page: Page, place: Place) -> None:
    place.sql("CREATE TABLE {t} (hut text, nights int)")
    page.goto(f"{place.stack.url}/new-job")
    page.get_by_role("tab", name="A query").click()
    page.locator("#from-connection").select_option("warehouse")
    page.get_by_label("query, in the SQL of that database").fill(
        f"select hut, sum(nights) as nights from {place.name} group by hut"
    )
    page.locator("#into-connection").select_option("warehouse")
    page.locator("#into-object").fill(f"{place.name}_sum")
    page.get_by_role("button", name="Draft the job").click()
    expect(page.get_by_label("job file")).to_contain_text("sum(nights)")
    # it is there again when the page is opened again
    page.wait_for_timeout(600)
    page.goto(f"{place.stack.url}/new-job")
    page.get_by_role("button", name="Go on with it").click()
    expect(page.get_by_label("job file")).to_contain_text("sum(nights)")
    page.get_by_role("button", name="Begin anew").click()
    place.job()
    page.goto(f"{place.stack.url}/new-job?copy={place.name}")
    page.get_by_role("button", name="Draft the job").click()
    expect(page.get_by_label("job file")).to_contain_text(f"job: {place.name}-copy")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", name=f"{place.name}-copy")).to_be_visible()
    page.get_by_role("tab", name="Last runs").click()
    expect(page.get_by_text("No runs yet.")).to_be_visible()


def test_every_key_of_into_and_run_has_a_field(page: Page, place: Place) -> None:
    place.file("a\n1\n").job()
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    schema = httpx.get(f"{place.stack.url}/api/v1/schemas/job").json()["$defs"]
    into = page.get_by_test_id("into")
    into.get_by_text("More keys").click()
    for key in schema["Target"]["properties"]:
        own = {
            "table": "into-object",
            "files": "into-object",
            "folder": "into-object",
            "connection": "into-connection",
        }
        if key in ("mode", "keys"):
            expect(into.get_by_role("radiogroup" if key == "mode" else "group", name=key)).to_be_visible()
        elif key in ("repeats", "gone"):
            continue  # with upsert alone
        else:
            found = page.locator(f"#{own.get(key, f'into-{key}')}").or_(
                into.locator("summary").filter(has_text=key.replace("_", " "))
            )
            expect(found.first).to_be_attached()
    page.get_by_role("tab", name="How it runs").click()
    how, file = page.get_by_test_id("how"), page.get_by_label("job file")
    for key in schema["RunOptions"]["properties"]:
        expect(how.get_by_text(key.replace("_", " "), exact=True).first).to_be_attached()
    how.get_by_role("button", name="+ Add schedule").click()
    how.get_by_label("cron").fill("15 2 * * *")
    how.get_by_label("cron").press("Tab")
    how.get_by_label("timezone").first.fill("Europe/Zurich")
    how.get_by_label("timezone").first.press("Tab")
    expect(how.get_by_test_id("next-times")).to_contain_text("Comes next, in your time")
    how.locator("#run-slices").fill("4")
    how.locator("#run-slices").press("Tab")
    how.locator("summary").filter(has_text="retry").click()
    how.get_by_label("attempts").fill("5")
    how.get_by_label("attempts").press("Tab")
    for part in ("cron: 15 2 * * *", "timezone: Europe/Zurich", "slices: 4", "attempts: 5"):
        expect(file).to_contain_text(part)
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Save revision").click()
    expect(page.get_by_text("revision 2, saved")).to_be_visible()
    run = place.client.job(place.name).structure["run"]
    assert (run["slices"], run["retry"]["attempts"]) == (4, 5)


def test_connections_are_tested(page: Page, stack: Stack) -> None:
    page.get_by_role("link", name="Connections").click()
    row = page.get_by_role("row").filter(has=page.get_by_role("link", name="warehouse", exact=True))
    row.get_by_role("button", name="Test").click()
    expect(row).to_contain_text("PostgreSQL 1")
    expect(row).to_contain_text("sealed")
    assert str(stack.warehouse["password"]) not in page.content()


def test_a_viewer_sees_and_does_not_touch(browser: Browser, stack: Stack, place: Place) -> None:
    name = f"viewer-{uuid.uuid4().hex[:6]}"
    stack._service("user", "add", name, "--role", "viewer", wait=True)
    place.file("a\n1\n").job()
    context = browser.new_context()
    page = context.new_page()
    page.set_default_timeout(90_000)
    sign_in(page, stack, name)
    page.goto(f"{stack.url}/jobs/{place.name}")
    expect(page.get_by_test_id("job-file")).to_contain_text(place.name)
    assert page.get_by_role("button", name=re.compile("Run|Save|Check")).count() == 0
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    context.close()


def test_runs_are_listed_and_filtered(page: Page, client: Client, place: Place) -> None:
    place.job()
    run = place.run()
    page.get_by_role("link", name="Runs").click()
    page.get_by_label("State").select_option("failed")
    row = page.get_by_role("row").filter(has=page.get_by_role("link", name=str(run.id), exact=True))
    expect(row).to_contain_text("failed")
    page.get_by_label("State").select_option("queued")
    expect(row).to_have_count(0)


def test_day_and_night_are_remembered(page: Page, stack: Stack) -> None:
    page.get_by_label("Colours").select_option("night")
    ground = "getComputedStyle(document.querySelector('.bg-base-200')).backgroundColor"
    dark = page.evaluate(ground)
    page.reload()
    page.get_by_role("heading", name="Jobs", exact=True).wait_for()
    assert page.locator("html").get_attribute("data-theme") == "night"
    page.get_by_label("Colours").select_option("day")
    assert page.evaluate(ground) != dark


def test_the_console_is_usable_by_keyboard(page: Page, place: Place) -> None:
    """From the list to a finished run without a mouse, with the focus always to be seen."""
    place.file("a\n1\n").job()
    page.reload()
    page.get_by_label("Find jobs").focus()
    page.keyboard.type(place.name)
    link = page.get_by_role("link", name=place.name, exact=True)
    for _ in range(10):
        page.keyboard.press("Tab")
        if link.evaluate("element => element === document.activeElement"):
            break
    assert link.evaluate("element => getComputedStyle(element).outlineStyle") != "none"
    page.keyboard.press("Enter")
    run = page.get_by_role("button", name="Run")
    expect(run).to_be_enabled()
    run.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("run-state")).to_have_text(re.compile("succeeded"))


def test_a_run_can_be_started_again(page: Page, place: Place) -> None:
    place.file("a\n1\n").job()
    run = place.run()
    page.goto(f"{place.stack.url}/runs/{run.id}")
    page.get_by_role("button", name="Run again").click()
    expect(page.get_by_role("heading", name=re.compile(rf"Run (?!{run.id}\b)\d+ of {place.name}"))).to_be_visible()
    expect(page.get_by_test_id("run-state")).to_have_text(re.compile("succeeded"))
    assert len(place.rows()) == 2


def test_addresses_that_lead_nowhere(page: Page, stack: Stack) -> None:
    for address, shown in (
        ("jobs/no-such", "there is no job"),
        ("runs/999999", "there is no run"),
        ("attic", "nothing at this address"),
    ):
        page.goto(f"{stack.url}/{address}")
        expect(page.get_by_text(re.compile(shown))).to_be_visible()


def test_a_service_that_is_away_is_told_and_found_again(page: Page, stack: Stack) -> None:
    page.route("**/api/v1/jobs*", lambda route: route.abort())
    expect(page.get_by_role("alert")).to_contain_text("The service does not answer")
    page.unroute("**/api/v1/jobs*")
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_new_connection_is_tested_fixed_and_removed(page: Page, stack: Stack) -> None:
    name = f"c-{uuid.uuid4().hex[:6]}"
    page.goto(f"{stack.url}/connections")
    page.get_by_role("link", name="New connection").click()
    page.get_by_label("name", exact=True).fill(name)
    page.get_by_role("radio", name="postgresql").click()
    page.get_by_label("host", exact=True).fill("127.0.0.1")
    page.get_by_label("port").fill("1")
    page.get_by_label("database").fill("warehouse")
    page.get_by_label("user").fill("postgres")
    page.get_by_label("password").fill(str(stack.warehouse["password"]))
    page.get_by_role("button", name="Add and test").click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()
    expect(page.get_by_role("alert").last).to_contain_text("is the port right?")
    page.get_by_label("port").fill(str(stack.warehouse["port"]))
    page.get_by_role("button", name="Save and test").click()
    # the password was given for another place
    expect(page.get_by_role("alert").first).to_contain_text("send password together with port")
    page.get_by_label("password").fill(str(stack.warehouse["password"]))
    page.get_by_role("button", name="Save and test").click()
    expect(page.get_by_text("PostgreSQL 1")).to_be_visible()
    assert str(stack.warehouse["password"]) not in page.content()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Remove").click()
    expect(page.get_by_role("heading", name="Connections")).to_be_visible()
    expect(page.get_by_role("link", name=name, exact=True)).to_have_count(0)


def test_a_file_is_found_looked_at_and_counted(page: Page, place: Place) -> None:
    place.file("id;code\n1;007\n2;010\n3\n")
    page.goto(f"{place.stack.url}/connections/incoming")
    page.get_by_label("Search").fill(place.name)
    page.get_by_role("link", name=f"{place.name}.csv").click()
    expect(page.get_by_role("cell", name="digits with leading zeros, first in row 1: 007")).to_be_visible()
    expect(page.get_by_role("row", name="✗ 3 not whole")).to_be_visible()
    page.get_by_label("profile").check()
    expect(page.get_by_role("columnheader", name="Most frequent")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("spread of id: 1 to .*: 1"))).to_be_visible()
    page.get_by_label("bytes next to them").check()
    expect(page.get_by_text("id;code")).to_be_visible()
    # what is seen has an address
    page.reload()
    expect(page.get_by_label("profile")).to_be_checked()


def test_a_layout_is_edited_until_the_rows_are_right(page: Page, place: Place) -> None:
    place.file("printed today\nid|amount\n1|1,50\n2|x\n")
    page.goto(f"{place.stack.url}/connections/incoming/look/{place.name}.csv")
    page.get_by_role("button", name="Edit the layout").click()
    rows = page.get_by_label("Parsed rows")
    expect(rows.get_by_role("columnheader", name="amount text", exact=True)).to_be_visible()
    expect(page.get_by_label("Raw bytes")).to_contain_text("printed today")
    page.get_by_label("delimiter", exact=True).fill(",")
    expect(rows.get_by_role("columnheader", name="amount text", exact=True)).to_have_count(0)
    page.get_by_label("delimiter", exact=True).fill("|")
    page.get_by_label("nulls").fill("x")
    page.get_by_label("decimal mark").select_option(",")
    expect(rows.get_by_role("columnheader", name="amount decimal(18,2)")).to_be_visible()
    page.get_by_label("encoding", exact=True).fill("klingon")
    expect(page.get_by_role("alert").first).to_contain_text("not an encoding known here")
    page.get_by_label("encoding", exact=True).fill("utf-8")
    expect(page.get_by_role("alert")).to_have_count(0)
    page.get_by_label("Name", exact=True).fill(place.name)
    page.get_by_role("button", name="Save layout").click()
    expect(page.get_by_text(f"saved {place.name}, version 1")).to_be_visible()
    reads = place.client.layout(place.name).structure["reads"]
    assert (reads["values"]["decimal_mark"], reads["values"]["nulls"], reads["delimiter"]) == (",", ["x"], "|")
    page.goto(f"{place.stack.url}/layouts")
    expect(page.get_by_role("cell", name=place.name, exact=True)).to_be_visible()


def test_borders_are_set_and_moved_on_the_ruler(page: Page, place: Place) -> None:
    """Fields of a one-line file by mouse and by keyboard; what was cut wrong is marked at its record."""
    records = ["0001firewood  12", "0002gas      907", "0003bread\n    4", "0004beer      33"]
    place.file("".join(records))
    page.goto(f"{place.stack.url}/connections/incoming/look/{place.name}.csv")
    page.get_by_role("button", name="Edit the layout").click()
    page.get_by_label("Format").select_option("fixed")
    page.get_by_label("record").fill("16")
    page.get_by_label("terminator").select_option("none")
    page.get_by_label("header").select_option("no")
    rows = page.get_by_label("Parsed rows")
    expect(rows.get_by_role("row", name="a line break stands inside the record")).to_be_visible()
    ruler = page.get_by_role("group", name="Ruler")
    expect(ruler).to_be_visible()
    while (border := page.get_by_role("slider")).count():
        border.first.focus()
        page.keyboard.press("Delete")
        page.wait_for_timeout(300)
    # by keyboard: the mark goes four characters to the right, and Enter sets a border there
    ruler.focus()
    for _ in range(4):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.get_by_role("slider")).to_have_attribute("aria-valuenow", "4")
    # by mouse: a click sets a border, and dragging moves it
    box = ruler.bounding_box()
    assert box is not None
    width = box["width"] / 17
    page.mouse.click(box["x"] + 11 * width, box["y"] + 3)
    expect(page.get_by_role("slider")).to_have_count(2)
    handle = page.get_by_role("slider").nth(1)
    expect(handle).to_have_attribute("aria-valuenow", "11")
    grip = handle.bounding_box()
    assert grip is not None
    page.mouse.move(grip["x"] + grip["width"] / 2, grip["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + 13 * width, grip["y"] + 5, steps=4)
    page.mouse.up()
    expect(handle).to_have_attribute("aria-valuenow", "13")
    page.keyboard.press("ArrowLeft")
    expect(handle).to_have_attribute("aria-valuenow", "12")
    page.get_by_label("Name of field 3").fill("kg")
    page.keyboard.press("Tab")
    expect(rows.get_by_role("columnheader", name="kg integer")).to_be_visible()
    expect(rows.get_by_role("cell", name="firewood", exact=True)).to_be_visible()


def test_an_upload_opens_to_be_looked_at(page: Page, stack: Stack) -> None:
    name = f"{uuid.uuid4().hex[:8]}.csv"
    page.goto(f"{stack.url}/connections/uploads")
    page.get_by_label("Files to upload").set_input_files(
        [{"name": name, "mimeType": "text/csv", "buffer": b"a,b\n1,x\n"}]
    )
    expect(page.get_by_role("heading", name=name)).to_be_visible()
    expect(page.get_by_role("columnheader", name="a integer")).to_be_visible()


def test_columns_are_edited_in_the_sheet_and_the_file_keeps_its_comments(page: Page, place: Place) -> None:
    place.file("id,Hut Code,price\n1,001,2.50\n2,007,x\n")
    text = place.job(columns="['*']", into="rejects: 1").replace("columns: ['*']", "columns:\n  - '*'  # for now")
    place.client.save_job(place.name, text)
    page.goto(f"{place.stack.url}/jobs/{place.name}")
    page.get_by_role("button", name="Check", exact=True).click()
    expect(page.get_by_test_id("check")).to_contain_text("✓ passed")
    page.get_by_role("button", name="List every column").click()
    page.get_by_text("All ▾").click()
    page.get_by_role("button", name="snake_case").click()
    file = page.get_by_test_id("job-file")
    expect(file).to_contain_text('"Hut Code" as hut_code text')
    page.get_by_label("type 3").fill("decimal(10,2)")
    page.get_by_label("type 3").press("Tab")
    expect(file).to_contain_text("price decimal(10,2)")
    page.get_by_label("drop 1").click()
    expect(file).not_to_contain_text("id integer")
    page.get_by_role("button", name="Undo").click()
    expect(file).to_contain_text("id integer")
    # the check follows by itself
    page.get_by_role("tab", name="Statements").click()
    expect(page.get_by_role("tabpanel")).to_contain_text('"hut_code" text')
    page.get_by_role("button", name="Rehearse").click()
    rehearsal = page.get_by_test_id("rehearsal")
    expect(rehearsal).to_contain_text("1 rejected")
    expect(rehearsal).to_contain_text('row 2, price "x": not a number')
    page.get_by_label("expression 2").focus()
    expect(page.get_by_test_id("column-detail")).to_contain_text("001")
    # what is written in the text is in the sheet at once
    file.get_by_role("textbox").click()
    page.keyboard.press("Control+End")
    expect(page.get_by_label("target name 2")).to_have_value("hut_code")


def test_the_first_page_says_what_went_wrong(page: Page, place: Place) -> None:
    place.file("a\n1\n").job(columns="[missing]")
    run = place.run()
    page.goto(f"{place.stack.url}/today")
    cause = page.get_by_role("region", name="What to look at")
    expect(cause).to_contain_text("column-unknown")
    expect(cause.get_by_role("link", name=place.name, exact=True)).to_be_visible()
    bar = page.get_by_role("link", name=f"run {run.id} of {place.name}: failed")
    expect(bar).to_have_text("✗")
    page.get_by_text("as a table").click()
    expect(page.get_by_role("row").filter(has_text=place.name)).to_contain_text("failed")
    # what was made good is no longer said
    place.job()
    place.run()
    expect(cause.get_by_role("link", name=place.name, exact=True)).to_have_count(0, timeout=15_000)
    bar.click()
    expect(page.get_by_role("alert")).to_contain_text("missing")


def test_schedules_are_paused_and_resumed(page: Page, place: Place) -> None:
    place.file("a\n1\n").job(run='schedule: {cron: "15 2 * * *", timezone: Europe/Zurich}')
    page.goto(f"{place.stack.url}/schedules")
    row = page.get_by_role("row").filter(has=page.get_by_role("link", name=place.name, exact=True))
    expect(row).to_contain_text("Europe/Zurich")
    row.get_by_role("button", name=f"Pause {place.name}").click()
    row.get_by_label(f"Why {place.name} is paused").fill("the hut is closed")
    row.get_by_role("button", name="Pause", exact=True).click()
    expect(row).to_contain_text("warden: the hut is closed")
    row.get_by_role("button", name="Resume").click()
    expect(row.get_by_role("button", name=f"Pause {place.name}")).to_be_visible()
    assert place.client.schedules(job=place.name)[0].paused is None


def test_a_run_is_compared_with_the_one_before(page: Page, place: Place) -> None:
    place.file("a\n1\n").job()
    first = place.run()
    second = place.run()
    page.goto(f"{place.stack.url}/runs/{second.id}")
    page.get_by_text("Compared with the run before").click()
    row = page.get_by_role("row").filter(has_text="rows in the target")
    expect(row).to_contain_text("1")
    expect(row).to_contain_text("2")
    expect(page.get_by_role("link", name=f"Run {first.id}", exact=True)).to_be_visible()


def test_the_last_runs_of_a_job_are_drawn(page: Page, place: Place) -> None:
    place.file("a\n1\n2\n").job()
    runs = [place.run() for _ in range(5)]
    page.goto(f"{place.stack.url}/jobs/{place.name}?drawer=runs")
    expect(page.locator(".uplot canvas")).to_have_count(2)
    # something is drawn: not all points of the picture are alike
    colours = (
        "(([canvas]) => canvas.width && new Set(canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height).data).size)"
        "(document.querySelectorAll('.uplot canvas'))"
    )
    for _ in range(100):
        if page.evaluate(colours) > 5:
            break
        page.wait_for_timeout(100)
    assert page.evaluate(colours) > 5
    page.get_by_text("as a table").click()
    expect(page.get_by_role("row").filter(has_text=str(runs[-1].id)).last).to_contain_text("2")
    history = place.client.history(place.name)
    assert [(item.run, item.rows) for item in history.runs] == [(run.id, 2) for run in runs]
    assert history.usual_rows == [2, 2]


def test_statements_and_speed_of_a_run_are_shown(page: Page, place: Place) -> None:
    place.file("a\n1\n2\n").job()
    run = place.run()
    # before the event by which the page knows that it was all
    place.stack.postgres.execute(
        f"UPDATE records_event SET id = id + 1000000 WHERE run_id = {run.id} AND kind = 'end'", "ultravect"
    )
    for second in range(1, 7):
        data = json.dumps({"rows_read": 1000 * second * second})
        place.stack.postgres.execute(
            "INSERT INTO records_event (run_id, leg, kind, at, data) VALUES "
            f"({run.id}, 1, 'progress', now() + interval '{second} seconds', '{data}')",
            "ultravect",
        )
    page.goto(f"{place.stack.url}/runs/{run.id}")
    page.get_by_text("Statements in databases").click()
    copied = page.get_by_test_id("statements").get_by_role("row").filter(has_text="FROM STDIN")
    expect(copied).to_contain_text(place.name)
    expect(copied.get_by_role("cell").nth(2)).to_have_text("2")
    speed = page.get_by_test_id("speed")
    expect(speed.locator("canvas")).to_be_visible()
    speed.get_by_text("as a table").click()
    # between seconds 5 and 6 some 36,000 - 25,000 rows
    expect(speed.get_by_role("row").last).to_contain_text(re.compile(r"1[01],\d{3}"))


def test_guards_of_the_last_runs_stand_side_by_side(page: Page, place: Place) -> None:
    text = place.file("a\n1\n").job()
    place.client.save_job(place.name, text + "guard: {rows_read: {at_least: 2}, otherwise: warn}\n")
    place.run()
    place.file("a\n1\n2\n3\n")
    last = place.run()
    page.goto(f"{place.stack.url}/jobs/{place.name}?drawer=runs")
    guards = page.get_by_test_id("guards")
    expect(guards.get_by_role("link")).to_have_text(["✓ 3", "✗ 1"])
    expect(guards.get_by_role("link").first).to_have_attribute("href", f"/runs/{last.id}")


def test_rules_for_messages_are_made_tried_and_removed(page: Page, place: Place) -> None:
    server = WebhookCatcher()
    try:
        page.goto(f"{place.stack.url}/messages")
        form = page.get_by_role("form", name="Add a rule, or replace one")
        form.get_by_label("name").fill(place.name)
        form.get_by_label("webhook").fill(server.url)
        form.get_by_label("its key").fill("a key of the wardens")
        form.get_by_label("missing").check()
        form.get_by_label("of these jobs").fill(f"{place.name}, other")
        form.get_by_label("again after hours").fill("4")
        form.get_by_role("button", name="Save the rule").click()
        row = page.get_by_role("row").filter(has=page.get_by_role("button", name=f"Send a test by {place.name}"))
        expect(row).to_contain_text("failed, late, missing")
        expect(row).to_contain_text("again after 4 h")
        expect(row).to_contain_text("(signed)")
        (rule,) = [item for item in place.client.notify_rules() if item.name == place.name]
        assert (rule.jobs, rule.remind_hours, rule.signed) == ([place.name, "other"], 4, True)
        row.get_by_role("button", name=f"Send a test by {place.name}").click()
        expect(page.get_by_role("status").filter(has_text="reaches its addresses")).to_be_visible()
        assert [body["occasion"] for body in server.bodies()] == ["test"]
        expect(page.get_by_role("row").filter(has_text="a test, which warden has asked for")).to_be_visible()
        # one that cannot be is said where it is filled in
        form.get_by_label("name").fill(place.name)
        form.get_by_label("webhook").fill("ftp://nowhere")
        form.get_by_role("button", name="Save the rule").click()
        expect(page.get_by_role("alert")).to_contain_text("begins with https:// or http://")
        page.once("dialog", lambda dialog: dialog.accept())
        row.get_by_role("button", name=f"Remove {place.name}").click()
        expect(row).to_have_count(0)
    finally:
        server.close()
