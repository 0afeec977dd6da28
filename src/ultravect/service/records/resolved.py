"""Jobs with what they name put in its place: feeds, and the layouts of feeds and of single objects."""

from __future__ import annotations

from typing import Any

from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.newer import names_log
from ultravect.core.model.problems import did_you_mean
from ultravect.service.records.lookup import layout_version, names_of
from ultravect.service.records.models import Feed, Job


def find_feed(name: str) -> Feed | None:
    """A feed that was not deleted."""
    return Feed.objects.filter(name=name, deleted_at=None).first()


def require_feed(name: str) -> Feed:
    """The feed of this name; UltravectError when there is none."""
    feed = find_feed(name)
    if feed is None:
        names = names_of(Feed)
        raise UltravectError(
            "feed-unknown",
            f"there is no feed {name!r}",
            hint=did_you_mean(name, names) or f"feeds here: {', '.join(names) or 'none yet'}",
            place="from.feed",
        )
    return feed


def resolved(structure: dict[str, Any]) -> dict[str, Any]:
    """The structure of a job, as the core takes it; UltravectError where something named is not there."""
    source = structure["from"]
    if isinstance(source.get("feed"), str):
        return {
            **structure,
            "from": {**source, "feed": resolved_feed(require_feed(source["feed"]).revision.structure)},
        }
    objects = structure.get("objects") or {}
    if any(isinstance((own.get("from") or {}).get("layout"), str) for own in objects.values()):
        return {**structure, "objects": {name: _with_layout(own) for name, own in objects.items()}}
    return structure


def resolved_feed(structure: dict[str, Any]) -> dict[str, Any]:
    """A feed whose versions have their layouts in the place of names."""
    providers = {
        name: {**provider, "versions": [_reads(version) for version in provider["versions"]]}
        for name, provider in structure["providers"].items()
    }
    return {**structure, "providers": providers}


def source_name(structure: dict[str, Any]) -> str:
    """The connection that a resolved job reads from."""
    source = structure["from"]
    feed = source.get("feed")
    return str(feed["connection"] if isinstance(feed, dict) else source["connection"])


def feed_name(structure: dict[str, Any]) -> str:
    """The feed that a job copies, "" for none."""
    feed = structure["from"].get("feed")
    return str(feed["feed"] if isinstance(feed, dict) else feed or "")


def jobs_of_feed(name: str) -> list[Job]:
    """The jobs that read a feed."""
    return [job for job in Job.objects.filter(deleted_at=None) if feed_name(job.revision.structure) == name]


def _reads(version: dict[str, Any]) -> dict[str, Any]:
    named = version.get("layout")
    return {**version, "layout": layout_version(named).structure["reads"]} if isinstance(named, str) else version


def _with_layout(own: dict[str, Any]) -> dict[str, Any]:
    source = own.get("from") or {}
    return {**own, "from": _reads(source)} if source else own


def follows_log(structure: dict[str, Any]) -> bool:
    """Whether a job, as it is stored, follows the log of its source."""
    return names_log(structure["from"].get("newer"))
