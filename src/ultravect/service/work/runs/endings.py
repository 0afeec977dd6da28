"""What becomes of a leg whose process or worker was lost."""

from __future__ import annotations

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import Outcome, State
from ultravect.service.work.runs.recorder import Recorder
from ultravect.service.work.runs.together import end_others

NOTHING, COMMITTED, UNKNOWN = Outcome.NOTHING, Outcome.COMMITTED, Outcome.UNKNOWN
_SILENT = ("leg-timeout", "worker-lost", "outcome-unknown")
_LEFT = {
    NOTHING: ("nothing was written", ""),
    COMMITTED: (
        "its rows are committed: they are in the target",
        "do not run it again for these rows; look at the run's tally, and undo it if it has to be repeated",
    ),
    UNKNOWN: (
        "whether its rows are in the target is not known yet",
        "the target is asked again and again; run it again only when the outcome is known",
    ),
}


def may_have_written(recorder: Recorder) -> bool:
    return any(phase["name"] == "publish" and phase["state"] != "waiting" for phase in recorder.leg.phases)


def release_or_end(recorder: Recorder, why: str) -> bool:
    """Releases a leg whose worker is gone, so that it can be taken over; False when it had to be ended instead."""
    if recorder.may_be_taken_over():
        recorder.release(why)
        return True
    # until the target is asked, which is done soon after: even a worker that is only slow might still write
    outcome = UNKNOWN if may_have_written(recorder) or recorder.has_receipts() else NOTHING
    state = State.STOPPED if recorder.wants_stop() else State.FAILED
    error = None if state == State.STOPPED else with_outcome(UltravectError("worker-lost", why), outcome).as_dict()
    recorder.end(state, outcome=outcome, error=error)
    end_others(recorder, state, outcome)
    return False


def with_outcome(error: UltravectError, outcome: Outcome) -> UltravectError:
    """The error, which also says what the run has left in its target."""
    said, hint = _LEFT[outcome]
    detail = error.detail
    if outcome == NOTHING and error.code not in _SILENT:
        return error
    for other, _ in _LEFT.values():
        detail = detail.replace(f"; {other}", "")
    found = UltravectError(error.code, f"{detail}; {said}", hint=hint or error.hint, **error.where)
    found.outcome = outcome
    return found
