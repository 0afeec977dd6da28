"""From a job with many objects to its legs: a job of its own for each object, or group of like files."""

from __future__ import annotations

from ultravect.core.engine.plan.legs.facts import legs_of_facts
from ultravect.core.engine.plan.legs.lay_out import lay_out, legs_now
from ultravect.core.engine.plan.legs.leg_job import LegJob, Legs

__all__ = ["LegJob", "Legs", "lay_out", "legs_now", "legs_of_facts"]
