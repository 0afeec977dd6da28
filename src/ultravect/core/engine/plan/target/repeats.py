"""Keys that come twice among the rows that a check tries."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.plan.planning import Planning
from ultravect.core.loading.refusals import key_written
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.written import plain_text
from ultravect.core.words import counted


def note_repeats(job: Job, plan: Planning, batches: Sequence[pa.RecordBatch], tried: str) -> None:
    """Adds a finding where rows of the batches have the same key, byte for byte; ``tried`` says which rows these are."""
    if not job.into.key_names or not batches:
        return
    keys = pa.Table.from_batches([batch.select(list(job.into.key_names)) for batch in batches])
    groups = keys.group_by(list(job.into.key_names)).aggregate([([], "count_all")])
    twice = groups.filter(pc.greater(groups["count_all"], 1))
    if not twice.num_rows:
        return
    number = pc.sum(twice["count_all"]).as_py() - twice.num_rows
    example = [plain_text(twice[key].slice(0, 1).combine_chunks()).to_pylist()[0] for key in job.into.key_names]
    shown = f"{number:,} of {tried} {'has' if number == 1 else 'have'} the key of a row before, such as "
    shown += key_written(job.into.key_names, example)
    if job.into.repeats == "fail":
        plan.add(
            "error",
            "key-repeated",
            f"{shown}, and the job says repeats: fail",
            "into.repeats",
            "fix the source, or say which row wins: into.repeats: last or first",
            Replacement("into.repeats", "last"),
        )
    else:
        what = f"{shown}: the {job.into.repeats} one of each is written, {counted(number, 'row')} will be dropped"
        plan.add("note", "key-repeated", what, "into.repeats")
