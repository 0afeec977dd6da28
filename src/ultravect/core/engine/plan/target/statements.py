"""The statements of ``before`` and ``after``: what they must not do, and whether the target would take them."""

from __future__ import annotations

from collections.abc import Iterator

from ultravect.core.contracts.probe import SUPERUSER
from ultravect.core.contracts.target import Database
from ultravect.core.dialects.statements import CALLS, VERBS, NotReadable, statements
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.model.edits import REMOVED
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job

# they would end the load's transaction, or begin another inside it
_ENDS_LOAD = (
    "BEGIN",
    "START TRANSACTION",
    "COMMIT",
    "END",
    "ROLLBACK",
    "ABORT",
    "SAVEPOINT",
    "RELEASE",
    "PREPARE TRANSACTION",
    "SET TRANSACTION",
    "SET AUTOCOMMIT",
    "LOCK TABLES",
    "UNLOCK",
    "XA",
)
# the same where a statement may follow another one without a semicolon
_ENDS_ANYWHERE = frozenset(["BEGIN", "COMMIT", "ROLLBACK", "SAVE"])
_SUCH_AS = ("INSERT", "UPDATE", "DELETE", "TRUNCATE", "ANALYZE")


def _statements(job: Job) -> Iterator[tuple[str, str]]:
    """Each statement with its place."""
    for key, written in (("before", job.into.before), ("after", job.into.after)):
        yield from ((f"into.{key}.{number}", statement) for number, statement in enumerate(written))


def plan_statements(job: Job, plan: Planning) -> None:
    """Refuses what would cut the load in two, and says what cannot be undone with it."""
    if plan.target is None or plan.target.database is None:
        return
    dialect = plan.target.dialect
    for place, text in _statements(job):
        try:
            found = statements(text, dialect.lexical)
        except NotReadable as error:
            plan.add("error", "statement-refused", f"the statement {error}", place, "close it")
            continue
        if len(found) != 1:
            what = f"here are {len(found)} statements; one is expected" if found else "there is no statement here"
            plan.add("error", "statement-refused", what, place, "write one statement an entry")
            continue
        (statement,) = found
        words = {*statement.words} if dialect.lexical.runs_on else frozenset()
        if ends := statement.any_of(_ENDS_LOAD) or next(iter(sorted(words & _ENDS_ANYWHERE)), ""):
            what = f"{ends} would end the load's transaction, which also holds the rows"
            plan.add(
                "error",
                "statement-ends-load",
                what,
                place,
                "take it out: the load commits by itself",
                Replacement(place, REMOVED),
            )
        elif refused := statement.refusal(dialect.takes, dialect.refused_words, dialect.lexical, calls=plan.may_call):
            what = (
                f"{refused} could reach beyond the target's own tables: a job's statements are those of rows, tables, views and indexes, "
                f"such as {', '.join(_SUCH_AS)}"
            )
            fix = "take it out"
            if statement.any_of(CALLS):
                fix += "; or have an admin allow the connection to call procedures (may_call: true)"
            code = "statement-leaves-target" if statement.first in VERBS else "statement-refused"
            plan.add("error", code, what, place, fix, Replacement(place, REMOVED))
        elif dialect.commits_itself(statement):
            what = f"{dialect.name} commits this statement by itself: it is done even when the load is undone"
            plan.add("warning", "statement-commits", what, place)


def _warn_of_account(plan: Planning, database: Database, place: str) -> None:
    """What statements could reach is decided by the account: said where that is everything."""
    signing_in = next((step for step in database.steps() if step.name == "sign in"), None)
    if signing_in is not None and SUPERUSER in signing_in.run():
        plan.add(
            "warning",
            "account-may-everything",
            "the statements run as a user who may do everything on the server: expressions in them can read its files and run programs",
            place,
            "use a user who may do no more than the job needs",
        )


def find_objections(job: Job, plan: Planning) -> None:
    """Has the target parse the statements, which executes none of them."""
    database = plan.target.database if plan.target else None
    if database is None:
        return
    if (first := next(_statements(job), None)) is not None:
        _warn_of_account(plan, database, first[0])
    for place, statement in _statements(job):
        objection = database.objection(statement)
        if objection is None:
            continue
        if objection.is_syntax:
            what = f"the target does not understand the statement: {objection.message}"
            plan.add("error", "statement-refused", what, place, "one statement an entry, in the target's own SQL")
        else:
            what = f"as things are now, the target would not take the statement: {objection.message}"
            plan.add(
                "warning", "statement-unsure", what, place, "fix it, unless what it needs is made by the load itself"
            )
