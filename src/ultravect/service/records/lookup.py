"""Finds records by the names that users give them."""

from __future__ import annotations

from django.db.models import QuerySet

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import LAYOUT_FILE, job_from_data
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.jobs.job import Job as JobModel
from ultravect.core.model.problems import did_you_mean
from ultravect.service.records.models import (
    Connection,
    Job,
    LayoutVersion,
    Leg,
    Named,
    Reject,
    Revision,
    RunKind,
    SavedLayout,
    State,
)

_USUAL = 10


_models: dict[int, JobModel] = {}
_MOST_MODELS = 2000


def model_of(revision: Revision) -> JobModel:
    """What a revision of a job says. A revision never changes: each is read once by this process."""
    known = _models.get(revision.pk)
    if known is None:
        if len(_models) >= _MOST_MODELS:
            _models.clear()
        known = _models[revision.pk] = job_from_data(revision.structure)
    return known


def find_connection(name: str) -> Connection | None:
    return Connection.objects.filter(name=name).first()


def find_job(name: str) -> Job | None:
    """A job that was not deleted."""
    return Job.objects.filter(name=name, deleted_at=None).first()


def selected_rows(leg: Leg) -> dict[str, list[int]]:
    """The rows that a leg rejected, by their files."""
    rows: dict[str, list[int]] = {}
    for name, row in Reject.objects.filter(leg=leg).values_list("object", "row"):
        rows.setdefault(name, []).append(row)
    return rows


def selected_keys(leg: Leg) -> list[str]:
    """The keys of the rows that a leg rejected, where all of them have one."""
    keys = list(Reject.objects.filter(leg=leg).values_list("key", flat=True))
    return keys if all(keys) else []


def usual_of(leg: Leg) -> dict[str, list[int]]:
    """What the last ten legs like this one that succeeded have read and written, by the names of guards."""
    return _usual_of(Leg.objects.filter(run__job_id=leg.run.job_id, object=leg.object, run_id__lt=leg.run_id))


def usual_of_job(name: str, chosen: str = "") -> dict[str, list[int]]:
    """The same for the next leg of a job, of the object ``chosen`` where it has many; nothing for a job that is not saved."""
    return _usual_of(Leg.objects.filter(run__job__name=name, run__job__deleted_at=None, object=chosen))


def _usual_of(legs: QuerySet[Leg]) -> dict[str, list[int]]:
    like = legs.filter(run__kind=RunKind.LOAD, state=State.SUCCEEDED)
    tallies = [tally for tally in like.order_by("-run_id").values_list("tally", flat=True)[:_USUAL] if tally]
    return {
        "rows_read": [tally["read"] for tally in tallies],
        "rows_written": [tally["inserted"] + tally["updated"] for tally in tallies],
    }


def names_of(model: type[Named]) -> list[str]:
    """The names of all that were not deleted."""
    return list(model._default_manager.filter(deleted_at=None).values_list("name", flat=True))


def find_layout(name: str) -> SavedLayout | None:
    """A layout that was not deleted."""
    return SavedLayout.objects.filter(name=name, deleted_at=None).first()


def layout_version(reference: str) -> LayoutVersion:
    """The newest version of a layout, or the one after @; UltravectError when there is none."""
    name, _, number = reference.partition("@")
    layout = find_layout(name)
    if layout is None:
        names = names_of(SavedLayout)
        raise UltravectError(
            "layout-unknown",
            f"there is no saved layout {name!r}",
            hint=did_you_mean(name, names) or f"layouts here: {', '.join(names) or 'none yet'}",
            place="from.layout",
        )
    version = layout.versions.filter(number=int(number)).first() if number else layout.version
    if version is None:
        raise UltravectError(
            "layout-unknown",
            f"layout {name!r} has no version {number}",
            hint=f"its newest version is {layout.version.number}",
            place="from.layout",
        )
    return version


def saved_layout(reference: str) -> LayoutFile:
    """What a saved layout says."""
    return LAYOUT_FILE.read(layout_version(reference).structure)


def layout_named_by(job: JobModel) -> LayoutFile | None:
    """The saved layout that a job names, when it names one."""
    given = job.source.layout
    return saved_layout(given) if isinstance(given, str) else None
