"""The states of runs, and what they were started for."""

from __future__ import annotations

from django.db import models

from ultravect.core.engine.run.leg import COMMITTED, NOTHING, UNKNOWN


class FileState(models.TextChoices):
    """What became of a file of a feed."""

    FOUND = "found"
    LOADED = "loaded"
    FAILED = "failed"
    UNMATCHED = "unmatched"
    DISPUTED = "disputed"


class State(models.TextChoices):
    """States of a run, and of its legs."""

    QUEUED = "queued"
    RUNNING = "running"
    SUCCEEDED = "succeeded"
    FAILED = "failed"
    STOPPED = "stopped"

    @property
    def ended(self) -> bool:
        return self in (State.SUCCEEDED, State.FAILED, State.STOPPED)


class Outcome(models.TextChoices):
    """What a run has left in its target, whatever its state. Of a run under way: what it has left so far."""

    NOTHING = NOTHING
    COMMITTED = COMMITTED
    UNKNOWN = UNKNOWN


class RunKind(models.TextChoices):
    """What a run does: load what the job says, load rows again that another run rejected, undo another run's load, or load the rows that a
    comparison has found to differ."""

    LOAD = "load"
    REJECTS = "rejects"
    UNDO = "undo"
    REPAIR = "repair"


class Trigger(models.TextChoices):
    """Why a run was started."""

    HAND = "hand"
    SCHEDULE = "schedule"
    AFTER = "after"
    FILL = "fill"
