"""Writes a job file for many objects: those that are named, or all that a pattern matches."""

from __future__ import annotations

from collections.abc import Sequence

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.engine.look.draft import Drafted, scalar, slug
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, holds_tables
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.legs import LegJob, lay_out
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.words import counted

_LISTED = 60
_LOOKED_AT = 300


def draft_many(source: ConnectionSpec, target: ConnectionSpec, drafted: Drafted, objects: Sequence[str]) -> str:
    """The text of a job file that copies each of ``objects``, names or patterns, into a target of its own.

    ``drafted.target_object`` may have placeholders; where it has none, the source's names are put after it as a schema or folder.
    UltravectError where nothing matches, or a connection cannot be reached.
    """
    tables = holds_tables(source.kind)
    into = _into_name(target, drafted.target_object, tables=tables)
    key = "table" if holds_tables(target.kind) else "files"
    head = {"connection": source.name}
    from_keys: dict[str, object] = {"tables": list(objects)} if tables else {"files": _one_pattern(objects)}
    job = job_from_data(
        {
            "ultravect": 1,
            "job": slug(f"{source.name}-into-{target.name}"),
            "from": {**head, **from_keys},
            "into": {"connection": target.name, key: into, "mode": "append"},
        }
    )
    found = lay_out(job, source, target, RunFacts())
    if found.errors:
        first = found.errors[0]
        raise UltravectError(first.code, first.message, hint=first.fix, place=first.place)
    without = _without_key(source, found.legs) if tables else []
    lines = ["ultravect: 1", f"job: {job.job}", "", "from:", f"  connection: {source.name}"]
    if tables:
        lines.append(f"  tables: [{', '.join(map(scalar, objects))}]")
        lines.append("  # except: []".ljust(44) + " # tables that a pattern matches and that are not wanted")
    else:
        lines.append(f"  files: {scalar(_one_pattern(objects))}")
    lines += _found_lines(found.legs)
    lines += ["", "into:", f"  connection: {target.name}", f"  {key}: {scalar(into)}", f"  mode: {drafted.mode}"]
    if drafted.keys:
        lines.append(f"  keys: [{', '.join(map(scalar, drafted.keys))}]")
    elif tables and key == "table":
        used = "" if drafted.mode == "upsert" else "# "
        lines.append(f"  {used}keys: primary".ljust(44) + " # each table's own primary key")
    if key == "table":
        lines.append("  # rename: snake_case".ljust(44) + " # a rule for the names of tables and columns")
    lines += ["", "run:", "  at_once: 4", "  on_error: finish".ljust(44) + " # finish or stop, when a leg fails"]
    if without:
        named = ", ".join(without[:_LISTED])
        lines += ["", f"# {counted(len(without), 'table has', 'tables have')} no primary key: {named}"]
        lines.append("# to upsert them, name their keys:")
        lines += ["# objects:", f"#   {scalar(without[0])}: {{into: {{keys: [COLUMN]}}}}"]
    return "\n".join([*lines, ""])


def _into_name(target: ConnectionSpec, wanted: str, *, tables: bool) -> str:
    """The target's name by the object; ``raw`` alone is a schema or a folder."""
    if "{" in wanted:
        return wanted
    name = "{table}" if tables else "{file_stem}"
    if holds_tables(target.kind):
        return f"{wanted.rstrip('.')}.{name}"
    return f"{wanted.rstrip('/')}/{name}.parquet"


def _one_pattern(objects: Sequence[str]) -> str:
    if len(objects) == 1:
        return objects[0]
    raise UltravectError(
        "pattern-needed",
        f"{counted(len(objects), 'file')} are named one by one, and a job reads files by one pattern",
        hint="name them by a pattern, such as exports/*.csv",
        place="from.files",
    )


def _found_lines(legs: Sequence[LegJob]) -> list[str]:
    """What the job copies now, as comments."""
    lines = [f"  # now {counted(len(legs), 'leg')}:"]
    lines += [f"  #   {leg.object} → {leg.job.into.object_name}" for leg in legs[:_LISTED]]
    if len(legs) > _LISTED:
        lines.append(f"  #   and {len(legs) - _LISTED:,} more")
    return lines


def _without_key(source: ConnectionSpec, legs: Sequence[LegJob]) -> list[str]:
    """Which tables an upsert would need keys for; of very many, only the first are looked at."""
    database = database_of(source)
    found: list[str] = []
    for leg in legs[:_LOOKED_AT]:
        name = str(leg.job.source.table).replace("{{", "{").replace("}}", "}")
        live: LiveTable | None = database.table(database.dialect.parse_table(name))
        if live is not None and not any(column.key for column in live.columns):
            found.append(leg.object)
    return found
