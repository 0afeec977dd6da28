"""The command line, as a new user drives it: the commands, what they print, and their exit codes."""

from __future__ import annotations

import importlib
import json
import os
import re
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

import openpyxl
import pytest
from devtools.shots import terminal_output
from devtools.stack import USER, Stack
from tests.cli.started import WIDTH, CommandStarter
from tests.conftest import Place

from ultravect.cli.main import COMMANDS, GROUPS

_WHOLE = frozenset(["login", "check", "version", "--help", "-h"])
"""Commands that are started as users start them, imports and all."""

PROGRAM = str(Path(sys.executable).parent / "ultravect")


class Shell:
    """Runs commands with a home of their own, signed in unless said otherwise."""

    def __init__(self, stack: Stack, home: Path, starter: CommandStarter) -> None:
        self.stack, self.starter = stack, starter
        self.environment = {"PATH": os.environ["PATH"], "XDG_CONFIG_HOME": str(home), "COLUMNS": WIDTH}
        self.signed_in = {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": stack.token}

    def __call__(self, *arguments: str, code: int = 0, given: str = "", signed_in: bool = True) -> str:
        """What a command prints, having checked its exit code and that no traceback got out."""
        environment = self.environment | (self.signed_in if signed_in else {})
        if arguments[0] in _WHOLE or environment.get("COLUMNS") != WIDTH:
            done = subprocess.run([PROGRAM, *arguments], env=environment, input=given, capture_output=True, text=True)
            found, output = done.returncode, done.stdout + done.stderr
        else:
            found, output = self.starter.run(arguments, environment, given)
        assert found == code, output
        assert "Traceback" not in output
        return output


@pytest.fixture(scope="module")
def starter(tmp_path_factory: pytest.TempPathFactory) -> Iterator[CommandStarter]:
    started = CommandStarter(tmp_path_factory.mktemp("commands"))
    yield started
    started.close()


@pytest.fixture
def shell(stack: Stack, tmp_path: Path, starter: CommandStarter) -> Shell:
    return Shell(stack, tmp_path, starter)


def test_the_story_of_a_new_user(shell: Shell, stack: Stack, place: Place, tmp_path: Path) -> None:
    name = place.name
    shell_out = lambda *arguments, **more: shell(*arguments, signed_in=False, **more)  # noqa: E731
    shown = shell_out("login", stack.url, "--user", USER, given=f"{stack.password}\n")
    assert f"signed in to {stack.url} as {USER} (admin)" in shown
    assert (tmp_path / "ultravect" / "login.json").stat().st_mode & 0o077 == 0

    shell_out("connection", "add", f"{name}-in", "folder", f"path={stack.files}")
    warehouse = stack.warehouse
    settings = [f"{key}={warehouse[key]}" for key in ("host", "port", "database", "user")]
    shell_out(
        "connection",
        "add",
        f"{name}-wh",
        "postgresql",
        *settings,
        "--ask",
        "password",
        given=f"{warehouse['password']}\n",
    )
    assert "✓ sign in  PostgreSQL" in shell_out("connection", "test", f"{name}-wh")
    shell_out("connection", "change", f"{name}-wh", "--at-most", "3")
    listed = shell_out("connection", "list")
    assert re.search(rf"{name}-wh +postgresql +3 ", listed)
    assert "receipts=true" in listed
    assert f"{name}-wh" in listed
    assert str(warehouse["password"]) not in listed

    place.file('id,code,name,paid\n1,007,"Ana, ""x""",true\n2,010,Zoë,false\n')
    looked = shell_out("look", f"{name}-in", f"{name}.csv")
    for part in (
        "integer",
        "digits with leading zeros, first in row 1: 007",
        "boolean",
        'Ana, "x"',
        "types from all 2 rows",
    ):
        assert part in looked
    assert f"{name}.csv" in shell_out("look", f"{name}-in", "--search", name)

    file = tmp_path / "job.yaml"
    file.write_text(
        f"ultravect: 1\njob: {name}\nfrom: {{connection: {name}-in, files: {name}.csv}}\ninto: {{connection: {name}-wh, table: {name}}}\n"
    )
    assert "check passed" in shell_out("check", str(file))
    assert f"saved job {name}, revision 1" in shell_out("save", str(tmp_path))
    checked = shell_out("check", name)
    assert '"code" text' in checked
    ran = shell_out("run", name)
    for part in (
        f"run {place.client.runs(job=name).items[0].id} of {name} succeeded",
        "(table created)",
        "read 2 = inserted 2",
        "0 before, 2 after",
    ):
        assert part in ran
    assert "2 before, 4 after" in shell_out("run", name)
    assert "4" in shell_out("ask", f"{name}-wh", f"select count(*) from {name}")
    assert "succeeded" in shell_out("jobs", "--search", name)
    assert f"job: {name}" in shell_out("job", name)
    runs = shell_out("runs", "--job", name)
    assert runs.count("succeeded") == 2
    assert "✓ verify" in shell_out("show", str(place.client.runs(job=name).items[0].id))


def test_every_command_gives_json(shell: Shell, place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    place.file("a\n1\nx\n").job(into="rejects: 1")

    def answer(*arguments: str) -> object:
        found: object = json.loads(shell(*arguments, "--json"))
        return found

    run = answer("run", place.name)
    assert isinstance(run, dict)
    number = str(run["id"])
    assert run["legs"][0]["tally"]["rejected"] == 1
    for command in (
        ["connection", "list"], ["connection", "show", "incoming"], ["connection", "test", "incoming"],
        ["look", "incoming"], ["look", "warehouse", place.name], ["ask", "warehouse", "select 1"], ["jobs"], ["job", place.name],
        ["check", place.name], ["runs"], ["show", number], ["rejects", number], ["run", place.name, "--detach"],
    ):  # fmt: skip
        assert answer(*command)


def test_what_follows_a_run(shell: Shell, place: Place, tmp_path: Path) -> None:
    columns = '["id integer", "name", "run_id() as load_run"]'
    place.file("id,name\n1,Ana\nx,Bo\n3\n").job(
        columns=columns, into="mode: overwrite, keys: [id], rejects: 5, keep_previous: 1"
    )
    number = str(place.run().id)
    assert "no rejects like that" in shell("rejects", number, "--column", "id", "--search", "none")
    assert "not a number" in shell("rejects", number, "--column", "id")
    to = tmp_path / "rejects.jsonl"
    assert f"wrote {to}" in shell("rejects", number, "--to", str(to))
    assert len(to.read_text().splitlines()) == 2
    assert "FILE.csv or FILE.jsonl" in shell("rejects", number, "--to", "rejects.txt", code=2)
    place.file("id,name\n1,Ana\n2,Bo\n3,Cy\n")
    shown = shell("retry-rejects", number)
    assert f"the rejects of run {number}" in shown
    assert "read 2 = inserted 2" in shown
    place.file("id,name\n1,Ann\n4,Di\n")
    shown = shell("rerun", number)
    assert "by key, against the rows before: 1 added, 2 gone, 1 changed, 0 equal" in shown
    again = str(place.client.runs(job=place.name).items[0].id)
    shown = shell("changes", again, "--kind", "updated")
    assert "Ana" in shown
    assert "Ann" in shown
    shown = shell("undo", again)
    assert "the 3 rows from before put back" in shown
    assert "2 before, 3 after" in shown
    assert f"undo of run {again}" in shell("runs", "--job", place.name)
    assert "undo" not in shell("job", place.name)  # an undo is no run of the job
    assert "already undid" in shell("undo", again, code=1)


def test_a_failed_run_says_what_to_do(shell: Shell, place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    place.file("a\n1\nx\n").job()
    ran = shell("run", place.name, code=1)
    for part in (
        "failed",
        "row 2 (line 3), column a: 'x': not a number",
        "fix: correct them in the source",
        "ultravect rejects",
    ):
        assert part in ran
    number = str(place.client.runs(job=place.name).items[0].id)
    assert "not a number" in shell("rejects", number)
    assert "– read  ✗ shape" in shell("show", number)


def test_bad_job_files_are_told_with_their_lines(shell: Shell, tmp_path: Path) -> None:
    file = tmp_path / "bad.yaml"
    file.write_text(
        "ultravect: 1\njob: bad\nfrom: {connection: incoming, files: x.csv}\ninto:\n  connection: warehouse\n  tabel: x\n"
    )
    for command in ("save", "check"):
        shown = shell(command, str(file), code=1)
        assert "line 6: into.tabel: unknown key 'tabel'" in shown
        assert "did you mean 'table'?" in shown
        assert "6 +   table: x" in shown
    file.write_text("a: [")
    assert "not valid YAML" in shell("save", str(file), code=1)


def test_stop(shell: Shell, place: Place) -> None:
    place.file("a\n1\n").job()
    place.run()
    with place.locked():
        shell("run", place.name, "--detach")
        run = place.client.runs(job=place.name).items[0]
        place.until(place.client.show(run.id), lambda item: item.state == "running")
        assert "stopped" in shell("stop", str(run.id))
    assert "already ended" in shell("stop", str(run.id), code=1)


@pytest.mark.parametrize(
    ("arguments", "code", "part"),
    [
        (["run", "no-such-job"], 1, "there is no job 'no-such-job'"),
        (["ask", "warehouse", "drop table x"], 1, "only a statement that reads"),
        (["look", "incomming"], 1, "did you mean 'incoming'?"),
        (["look", "incoming", "no-such.csv"], 1, "there is no file"),
        (["connection", "add", "x", "folder", "path"], 2, "is not KEY=VALUE"),
        (["connection", "add", "x", "folder", "pth=/"], 1, "did you mean 'path'?"),
        (["save", "no-such-file.yaml"], 2, "there is no file"),
        (["show", "many"], 2, "valid integer"),
        (["nonsense"], 2, "No such command"),
    ],
)
def test_exit_codes(arguments: Sequence[str], code: int, part: str, shell: Shell) -> None:
    assert part in shell(*arguments, code=code)


def test_no_service_and_no_sign_in(shell: Shell, stack: Stack) -> None:
    assert "not signed in" in shell("jobs", code=3, signed_in=False)
    shell.signed_in = {"ULTRAVECT_URL": "http://127.0.0.1:1", "ULTRAVECT_TOKEN": "x"}
    assert "no service answers at http://127.0.0.1:1" in shell("jobs", code=3)
    shell.signed_in = {"ULTRAVECT_URL": stack.url, "ULTRAVECT_TOKEN": "uv_wrong"}
    assert "this token is not known" in shell("jobs", code=3)
    assert "do not match" in shell("login", stack.url, "--user", USER, given="wrong\n", code=3, signed_in=False)


def test_progress_is_live_in_a_terminal(shell: Shell, place: Place) -> None:
    place.file("id,name\n" + "".join(f"{n},{'x' * 60}\n" for n in range(400_000))).job()
    seen = terminal_output([PROGRAM, "run", place.name], shell.environment | shell.signed_in, columns=120)
    for part in ("▸ read", "rows/s", "✓ stage", "read 400,000 = inserted 400,000"):
        assert part in seen


def test_connections_are_changed_and_removed(shell: Shell, place: Place) -> None:
    name = f"{place.name}-c"
    shell("connection", "add", name, "folder", f"path={place.stack.files}/none")
    shown = shell("connection", "test", name, code=1)
    assert "does not exist" in shown
    assert "fix: check the path" in shown
    shell("connection", "change", name, f"path={place.stack.files}")
    assert f"connection {name} works" in shell("connection", "test", name)
    assert f"path={place.stack.files}" in shell("connection", "show", name)
    shell("connection", "remove", name)
    assert "there is no connection" in shell("connection", "show", name, code=1)
    assert "is used by" in shell("connection", "remove", "incoming", code=1) if place.job() else True


def test_many_jobs_are_saved_from_a_folder(shell: Shell, place: Place, tmp_path: Path) -> None:
    """Good files are saved, bad ones are reported, and the exit code says that there was one."""
    good = f"ultravect: 1\njob: {place.name}-{{n}}\nfrom: {{{{connection: incoming, files: x.csv}}}}\ninto: {{{{connection: warehouse, table: t}}}}\n"
    (tmp_path / "deep").mkdir()
    (tmp_path / "one.yaml").write_text(good.format(n=1) + "---\n" + good.format(n=2))
    (tmp_path / "deep" / "three.yml").write_text(good.format(n=3))
    (tmp_path / "readme.txt").write_text("not a job")
    (tmp_path / "bad.yaml").write_text("ultravect: 1\njob: bad\n")
    (tmp_path / "unknown.yaml").write_text(good.format(n=4).replace("incoming", "incomming"))
    shown = shell("save", str(tmp_path), code=1)
    assert [f"saved job {place.name}-{n}" in shown for n in (1, 2, 3, 4)] == [True, True, True, False]
    assert "key 'from' is missing" in shown
    assert "did you mean 'incoming'?" in shown


def test_wide_rows_are_shown_a_line_a_column(shell: Shell, place: Place) -> None:
    header = ",".join(f"column_number_{n}" for n in range(30))
    place.file(header + "\n" + ",".join(f"value {n}" for n in range(30)) + "\n")
    shown = shell("look", "incoming", f"{place.name}.csv")
    (line,) = [line for line in shown.splitlines() if line.startswith("column_number_17") and "value 17" in line]
    assert line.split() == ["column_number_17", "value", "17"]


def test_odd_values_do_not_break_the_screen(shell: Shell, place: Place) -> None:
    place.sql("CREATE TABLE {t} (a text)")
    place.sql(
        "INSERT INTO {t} VALUES ('[red]not markup[/]'), (E'two\\nlines'), (NULL), ('\u202eright to left'), (repeat('x', 500))"
    )
    shown = shell("ask", "warehouse", f"select * from {place.name}")
    for part in ("[red]not markup[/]", "two⏎lines", "NULL", "xxx…"):
        assert part in shown


def test_looking_around(shell: Shell, stack: Stack, place: Place, tmp_path: Path) -> None:
    name = place.name
    place.file("Nr;Betrag\n001;1.250,50\n002;2,25\n003\n")
    looked = shell("look", "incoming", f"{name}.csv", "--counts")
    for part in (
        'delimited, utf-8, delimiter ";"',
        "decimal mark ',', thousands '.'",
        "decimal(18,2)",
        "note: numbers have a decimal comma, such as 1.250,50 in column 'Betrag'",
        "rows that are not whole: 1",
        "row 3 (line 4): 1 value where the header has 2 columns",
        "smallest … largest",
        "2.25 … 1250.50",
    ):
        assert part in looked
    assert "Nr;Betrag" in shell("look", "incoming", f"{name}.csv", "--bytes")
    own = shell("look", "incoming", f"{name}.csv", "--layout", "{delimiter: '|', header: false}", "--rows", "1")
    assert "column_1" in own
    assert "did you mean 'delimiter'?" in shell(
        "look", "incoming", f"{name}.csv", "--layout", "{delimter: x}", code=1
    )
    asked = shell("look", "warehouse", "--query", "select count(*) as n from pg_class")
    assert "n bigint bigint" in " ".join(asked.split())

    proposed = shell("layout", "propose", name, "incoming", f"{name}.csv", "--save")
    assert "# delimiter ';': 75% of the first rows have 2 columns with it" in proposed
    assert f"saved layout {name}, version 1" in proposed
    assert name in shell("layout", "list")
    assert "thousands: ." in shell("layout", "show", name)
    place.file("Nr;Summe\n001;1,5\n")
    shown = shell("layout", "fit", name, "incoming", f"{name}.csv", code=1)
    assert f"no longer fits layout {name}: column 2 is now 'Summe', it was 'Betrag'" in shown
    place.file("Nr;Betrag\n001;1,50\n")
    assert f"fits layout {name}" in shell("layout", "fit", name, "incoming", f"{name}.csv")
    assert "removed" in shell("layout", "remove", name)

    file = tmp_path / f"{name}.csv"
    file.write_text("a,b\n1,2\n")
    assert f"uploaded june/{name}.csv" in shell("upload", str(file), "--into", "june")
    assert "there is an upload" in shell("upload", str(file), "--into", "june", code=1)
    shell("upload", str(file), "--into", "june", "--replace")
    assert f"june/{name}.csv" in shell("look", "uploads", "--pattern", "june/*")


def test_files_of_connections_and_layouts(shell: Shell, stack: Stack, place: Place, tmp_path: Path) -> None:
    name = place.name
    key = tmp_path / "key"
    key.write_text("-----BEGIN KEY-----\nx\n")
    shell(
        "connection",
        "add",
        name,
        "sftp",
        "host=127.0.0.1",
        "port=1",
        "user=u",
        f"private_key=@{key}",
        "password=from_env:SECRET_X",
    )
    shown = shell("connection", "show", name)
    assert "private_key=(set)" in shown
    assert "BEGIN KEY" not in shown
    assert "environment variable SECRET_X is not set" in shell("connection", "test", name, code=1)
    shell("connection", "change", name, "password=known")
    tested = shell("connection", "test", name, code=1)
    assert "✓ resolve" in tested
    assert "✗ reach" in tested
    assert "· sign in  not reached" in tested
    shell("connection", "change", name, "password=from_env:SECRET_X")
    shell("connection", "file", name, "--out", str(tmp_path / "c.yaml"))
    text = (tmp_path / "c.yaml").read_text()
    assert "from_env: SECRET_X" in text
    assert "# private_key is sealed" in text
    shell("connection", "remove", name)
    (tmp_path / "l.yaml").write_text(f"ultravect: 1\nlayout: {name}\nreads: {{format: jsonl}}\n")
    (tmp_path / "j.yaml").write_text(place.job())
    saved = shell("save", str(tmp_path))
    for part in (f"saved connection {name}", f"saved layout {name}, version 1", f"saved job {name}, revision"):
        assert part in saved
    (tmp_path / "c.yaml").write_text(text.replace("kind: sftp", "kind: sftpp"))
    assert "did you mean 'sftp'?" in shell("save", str(tmp_path / "c.yaml"), code=1)


def test_sheets_folders_and_wide_rows(shell: Shell, stack: Stack, place: Place, tmp_path: Path) -> None:
    folder = stack.files / f"{place.name}-folder"
    folder.mkdir()
    book = openpyxl.Workbook()
    sheet = book.create_sheet("July")
    sheet.append(["hut", "kg"])
    sheet.append(["A", 3])
    book.save(folder / "book.xlsx")
    (folder / "odd[1].csv").write_text(f"id,remark\n1,{'long ' * 60}\n")
    listed = shell("look", "incoming", folder.name)
    assert (f"{folder.name}/book.xlsx" in listed, f"{folder.name}/odd[1].csv" in listed) == (True, True)
    assert 'sheet "July"' in shell("look", "incoming", f"{folder.name}/book.xlsx/July")
    drafted = shell(
        "draft", "--from", f"incoming:{folder.name}/book.xlsx", "--sheet", "July", "--into", f"warehouse:{place.name}"
    )
    assert ("    sheet: July" in drafted, "- kg integer" in drafted) == (True, True)
    whole = Shell(stack, tmp_path, shell.starter)
    whole.environment.pop("COLUMNS")
    # the name wins over the pattern that it would be, and nothing is cut or wrapped where no one reads along
    assert ("long " * 60).strip() in whole("look", "incoming", f"{folder.name}/odd[1].csv")


def test_draft_rehearse_and_types(shell: Shell, place: Place, tmp_path: Path) -> None:
    place.file("id,hut\n1,001\n2,x\n")
    text = shell("draft", "--from", f"incoming:{place.path.name}", "--into", f"warehouse:{place.name}")
    file = tmp_path / "drafted.yaml"
    file.write_text(text.replace("- hut text", "- cast(hut as integer) as hut integer"))
    shown = shell("rehearse", str(file), code=1)
    assert "reject: row 2, column hut: not a number" in shown
    assert "rehearsal not passed: all 2 rows tried, nothing written; 1 row is a reject" in shown
    assert json.loads(shell("rehearse", str(file), "--json", code=1))["steps"][0]["rows_in"] == 2
    assert "CONNECTION:OBJECT" in shell("draft", "--from", "incoming", "--into", "warehouse:x", code=2)
    upsert = ("--mode", "upsert", "--keys", "id", "--layout", "{delimiter: ',', names: [id, code]}")
    keyed = shell("draft", "--from", f"incoming:{place.path.name}", "--into", f"warehouse:{place.name}", *upsert)
    for part in ("  keys: [id]", "  mode: upsert", "    names:", "- code text"):
        assert part in keyed
    (tmp_path / "keyed.yaml").write_text(keyed)
    shell("save", str(tmp_path / "keyed.yaml"))
    assert "read 2 = inserted 2" in shell("run", keyed.split("job: ")[1].split("\n")[0])
    query = ("--from", "warehouse", "--query", "select 7 as n", "--into", f"warehouse:{place.name}_q")
    assert "query: select 7 as n" in shell("draft", *query)
    assert "needs --keys" in shell("draft", *query, "--mode", "upsert", code=2)
    shown = shell("types", "--from", "postgresql", "--into", "mariadb")
    assert shown.startswith("from postgresql into mariadb")
    assert "…" not in shown
    assert "stored in UTC, without its zone" in shown


def test_a_run_that_fails_after_its_commit_has_an_exit_code_of_its_own(shell: Shell, place: Place) -> None:
    """A trigger changes what was sent, which is only seen when the committed rows are read again."""
    place.file("a,load_run\n1,x\n").job(into="checksums: true", columns='[a integer, "run_id() as load_run"]')
    place.sql("CREATE TABLE {t} (a integer, load_run text)")
    place.sql(
        "CREATE FUNCTION change_{t}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.a := NEW.a + 1; RETURN NEW; END $$"
    )
    place.sql("CREATE TRIGGER change BEFORE INSERT ON {t} FOR EACH ROW EXECUTE FUNCTION change_{t}()")
    shown = shell("run", place.name, code=4)
    assert "outcome committed" in shown
    assert "its rows are committed: they are in the target" in shown
    (run,) = place.client.runs(job=place.name).items
    assert (run.state, run.outcome) == ("failed", "committed")
    assert "(committed)" in shell("runs", "--job", place.name)
    assert place.client.show(run.id).legs[0].tally == {
        "read": 1, "filtered": 0, "rejected": 0, "repeated": 0, "inserted": 1, "updated": 0, "unchanged": 0,
    }  # fmt: skip
    # its rows can be taken back, as those of a run that succeeded
    shell("undo", str(run.id))
    assert place.rows() == []


def test_what_runs_unattended(shell: Shell, place: Place) -> None:
    place.file("a\n1\n").job(run='schedule: {cron: "15 2 * * *", timezone: Europe/Zurich}')
    listed = shell("schedule", "list", "--job", place.name)
    assert "15 2 * * * Europe/Zurich" in listed
    assert "none yet" in listed
    assert "are paused" in shell("schedule", "pause", place.name, "--why", "the hut is closed")
    assert "by warden: the hut is closed" in shell("schedule", "list")
    assert "is run next on" in shell("schedule", "resume", place.name)
    assert shell("schedule", "next", place.name).count(" 02:15") == 5
    assert shell("schedule", "next", "15 2 * * *", "--timezone", "Europe/Zurich").count(" 02:15 Europe/Zurich") == 5
    assert "never comes" in shell("schedule", "next", "0 0 31 2 *", code=1)
    assert "one for each time of the schedule" in shell("run", place.name, "--for", "2026-06-01..2026-06-02")
    place.until(place.client.runs(job=place.name).items[0], lambda run: run.state == "succeeded")  # type: ignore[arg-type]
    assert "2026-06-01..2026-06-30" in shell("run", place.name, "--for", "..", code=2)
    place.job(columns="[missing]")
    place.run()
    today = shell("today")
    assert place.name in today
    assert "there is no column" in today or "missing" in today
    assert json.loads(shell("today", "--json"))["failed"]
    place.job()
    place.run()
    assert f"{place.name} " not in shell("today").split("next:")[0]
    shell(
        "notify",
        "add",
        "ops",
        "--on",
        "failed",
        "--webhook",
        "http://127.0.0.1:9/",
        "--key",
        given="a long secret key\n",
    )
    assert "http://127.0.0.1:9/" in shell("notify", "list")
    assert "Connection refused" in shell("notify", "test", "ops", code=1)
    assert "not yet" in shell("notify", "messages")
    shell("notify", "remove", "ops")
    assert "no rule" in shell("notify", "remove", "ops", code=1)


def test_the_list_of_commands_says_what_they_say_themselves() -> None:
    for name, (module, about) in COMMANDS.items():
        function = getattr(importlib.import_module(f"ultravect.cli.commands.{module}"), name.replace("-", "_"))
        assert (function.__doc__ or "").split("\n")[0] == about
    for module, attribute, about in GROUPS.values():
        assert getattr(importlib.import_module(f"ultravect.cli.commands.{module}"), attribute).info.help == about
