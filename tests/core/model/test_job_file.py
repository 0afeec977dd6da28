"""Job files: what is wrong in one is reported with its place, its line and the likely fix."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.model.base import allowed_rejects, duration_seconds
from ultravect.core.model.document import DeclarationError, job_from_data, read_documents, read_job, write_job

GOOD = """\
ultravect: 1
job: bookings
from:
  connection: incoming
  files: bookings.csv
into:
  connection: warehouse
  table: booking
"""


@pytest.mark.parametrize(
    ("old", "new", "line", "message", "hint"),
    [
        ("table: booking", "tabel: booking", 8, "unknown key 'tabel'", "did you mean 'table'?"),
        ("from:", "form:", 3, "unknown key 'form'", "did you mean 'from'?"),
        ("  files: bookings.csv\n", "", 3, "from names one of table, tables, query and files; none is there", ""),
        (
            "table: booking",
            "table: booking\n  mode: appendd",
            9,
            "'appendd' is not one of 'append'",
            "did you mean 'append'?",
        ),
        ("table: booking", "table: 7", 8, "this should be a string, not 7", ""),
        (
            "table: booking",
            "table: b\n  rejects: many",
            9,
            'a count such as 50, or a share of the rows read such as "0.5%"',
            "",
        ),
        ("table: booking", "table: b\n  rejects: -1", 9, "a count of rejects cannot be negative", ""),
        ("job: bookings", "job: Book Ings", 2, "'Book Ings' is not a name", ""),
        ("ultravect: 1", "ultravect: 2", 1, "2 is not one of 1", ""),
        ("job: bookings", "job: bookings\nrun: {timeout: 3 weeks}", 3, "a duration is a number and a unit", ""),
        ("files: bookings.csv", "files: b.csv\n  layout: {quote: ab}", 6, "one ASCII character", ""),
        ("files: bookings.csv", "files: b.csv\n  layout: {encoding: klingon}", 6, "not an encoding known here", ""),
        (
            "files: bookings.csv",
            "files: b.csv\n  layout: {values: {dates: DD}}",
            6,
            "a date pattern has a year (YYYY or YY)",
            "",
        ),
        ("job: bookings", "job: bookings\njob: twice", 3, "key 'job' stands here twice", ""),
        ("  table: booking", "  table: [booking", 9, "not valid YAML", ""),
        ("from:", "\tfrom:", 3, "not valid YAML", ""),
    ],
)
def test_a_problem_names_its_place(old: str, new: str, line: int, message: str, hint: str) -> None:
    assert old in GOOD
    with pytest.raises(DeclarationError) as raised:
        read_job(GOOD.replace(old, new, 1))
    problems = raised.value.problems
    fitting = [problem for problem in problems if message in problem.message]
    assert fitting, problems
    assert fitting[0].line == line
    assert hint in fitting[0].hint


@pytest.mark.parametrize(
    "text", ["", "# nothing\n", "- a\n- b\n", "just words", GOOD + "---\n" + GOOD, "a: *missing"]
)
def test_what_is_not_one_job(text: str) -> None:
    with pytest.raises(DeclarationError):
        read_job(text)


def test_aliases_cannot_explode() -> None:
    levels = "\n".join(f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 10))
    with pytest.raises(DeclarationError, match="too many values"):
        read_documents(f"a0: &a0 [x]\n{levels}\n")


def test_many_jobs_in_one_file_keep_their_own_text() -> None:
    second = GOOD.replace("job: bookings", "job: other  # with a comment")
    documents = read_documents(f"{GOOD}---\n{second}")
    assert [document.data["job"] for document in documents] == ["bookings", "other"]
    assert "# with a comment" in documents[1].text
    assert job_from_data(documents[1].data).job == "other"


def test_words_that_yaml_would_take_for_something_else_stay_words() -> None:
    job, _ = read_job(GOOD.replace("files: bookings.csv", "files: 2026-01-01").replace("table: booking", "table: no"))
    assert (job.source.files, job.into.table) == ("2026-01-01", "no")


def test_a_job_written_is_the_job_read() -> None:
    job, _ = read_job(GOOD + "  rejects: 0.5%\nrun: {timeout: 10 min}\ncolumns: [a, '* except (b)']\n")
    assert read_job(write_job(job))[0] == job


@given(st.text())
def test_any_text_is_a_job_or_a_job_file_error(text: str) -> None:
    with suppress(DeclarationError):
        assert read_job(text)[0].ultravect == 1


@pytest.mark.parametrize(
    ("text", "seconds"), [("500 ms", 0.5), ("30 s", 30), ("10min", 600), ("1.5 h", 5400), ("2 d", 172800)]
)
def test_durations(text: str, seconds: float) -> None:
    assert duration_seconds(text) == seconds


@pytest.mark.parametrize(
    ("limit", "rows", "allowed"), [(0, 10, 0), (50, 10, 50), ("0.5%", 1000, 5), ("0.5%", 100, 0), ("100%", 7, 7)]
)
def test_allowed_rejects(limit: int | str, rows: int, allowed: int) -> None:
    assert allowed_rejects(limit, rows) == allowed
