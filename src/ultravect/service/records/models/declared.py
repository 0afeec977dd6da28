"""What is declared, in versions: jobs, layouts, feeds."""

from __future__ import annotations

from typing import ClassVar, TypeVar

from django.db import models

from ultravect.service.records.models.people import User


class Named(models.Model):
    """Something that is saved under a name, in versions; one that is deleted keeps them."""

    name = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    deleted_at = models.DateTimeField(null=True)

    class Meta:
        abstract = True
        ordering: ClassVar = ["name"]


class Version(models.Model):
    """What was saved at one time: the text as written, and its structure."""

    number = models.PositiveIntegerField()
    text = models.TextField()
    structure = models.JSONField()
    saved_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)
    saved_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract = True


V = TypeVar("V", bound=Version)


def _newest(versions: models.Manager[V]) -> V:
    newest = versions.order_by("-number").first()
    assert newest is not None
    return newest


class Job(Named):
    """A job by its name; what it says is in its revisions."""

    listed: Revision | None = None
    """The newest revision, where it was looked up with those of other jobs."""

    @property
    def revision(self) -> Revision:
        """The newest revision."""
        return self.listed or _newest(self.revisions)


class Revision(Version):
    """A job as it was saved at one time."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="revisions")

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["job", "number"], name="one_revision_a_number")]


class SavedLayout(Named):
    """A layout by its name; what it says is in its versions."""

    @property
    def version(self) -> LayoutVersion:
        """The newest version."""
        return _newest(self.versions)


class LayoutVersion(Version):
    """A layout as it was saved at one time."""

    layout = models.ForeignKey(SavedLayout, on_delete=models.CASCADE, related_name="versions")

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["layout", "number"], name="one_version_a_number")]


class Feed(Named):
    """A feed by its name; what it says is in its revisions."""

    expected_at = models.DateTimeField(null=True)
    """When the files of its providers are expected next; None: that is to be found."""

    @property
    def revision(self) -> FeedRevision:
        """The newest revision."""
        return _newest(self.revisions)


class FeedRevision(Version):
    """A feed as it was saved at one time."""

    feed = models.ForeignKey(Feed, on_delete=models.CASCADE, related_name="revisions")

    class Meta:
        constraints: ClassVar = [
            models.UniqueConstraint(fields=["feed", "number"], name="one_feed_revision_a_number")
        ]
