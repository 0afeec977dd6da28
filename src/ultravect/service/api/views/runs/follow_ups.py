"""Runs that come of another one: rejects that are loaded again, and loads that are undone."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import asdict

from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.document import job_from_data
from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers.running import (
    RunSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.api.views.runs.run import run_numbered
from ultravect.service.records.lookup import selected_keys
from ultravect.service.records.models import (
    Outcome,
    Reject,
    Revision,
    Role,
    Run,
    RunKind,
    State,
)
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.runs.attempts import attempt_names, job_of, run_facts
from ultravect.service.work.runs.start import start_run


def _follower(run: Run, kind: RunKind) -> Run | None:
    """The run that did this to ``run``, or is about to."""
    return run.followed_by.filter(kind=kind).exclude(state__in=[State.FAILED, State.STOPPED]).first()


class _FollowUp(APIView):
    """Starts a run that follows another one."""

    writing_role = Role.OPERATOR
    kind: RunKind

    def _start(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        self._require(run)
        with transaction.atomic():
            Run.objects.select_for_update().get(pk=number)
            self._require_first(run)
            made = start_run(self._revision(run), request.user, run.parameters, kind=self.kind, origin=run)
        return Response(RunSerializer(made).data, status=201)

    def _require_first(self, run: Run) -> None:
        """Raises where another run has followed it so already."""
        done = _follower(run, self.kind)
        if done is not None:
            what = "loaded the rejects of" if self.kind == RunKind.REJECTS else "undid"
            hint = (
                f"see run {done.pk}"
                if self.kind == RunKind.UNDO
                else f"what run {done.pk} rejected is its own to retry"
            )
            raise Problem(409, "run-followed", f"run {done.pk} already {what} run {run.pk}, or is about to", hint)

    def _require(self, run: Run) -> None:
        """Raises where the run cannot be followed so."""
        self._require_first(run)
        if run.outcome == Outcome.UNKNOWN:
            raise Problem(
                409,
                "outcome-unknown",
                f"whether the rows of run {run.pk} of {run.job.name} are in the target is not known yet",
                "try again when its outcome is known: the target is asked",
            )
        if run.outcome != Outcome.COMMITTED or not State(run.state).ended:
            raise Problem(
                409,
                "nothing-written",
                f"run {run.pk} of {run.job.name} has written nothing: it is {run.state}",
                f"run the job: ultravect run {run.job.name}",
            )

    @abstractmethod
    def _revision(self, run: Run) -> Revision:
        """The job as it is run now."""


@extend_schema(tags=["runs"])
class RetryRejectsView(_FollowUp):
    """Loads the rows that a run rejected, read again at their places in files or by their keys in a table, by the job as it is now."""

    kind = RunKind.REJECTS

    @extend_schema(request=None, responses={201: RunSerializer}, summary="Load a run's rejects again")
    def post(self, request: Request, number: int) -> Response:
        return self._start(request, number)

    def _require(self, run: Run) -> None:
        super()._require(run)
        undone = _follower(run, RunKind.UNDO)
        if undone is not None:
            raise Problem(409, "run-undone", f"run {undone.pk} undid run {run.pk}", "run the job again")
        rejected = sum(leg.rejected for leg in run.legs.all())
        kept = Reject.objects.filter(leg__run=run).count()
        if not rejected:
            raise Problem(409, "no-rejects", f"run {run.pk} rejected no rows", "nothing is left to be loaded")
        if kept < rejected:
            raise Problem(
                409,
                "rejects-not-kept",
                f"run {run.pk} rejected {rejected:,} rows, of which {kept:,} are kept",
                f"run the whole job again: ultravect run {run.job.name}",
            )
        model = job_from_data(self._revision(run).structure)
        legs = [leg for leg in run.legs.all() if leg.rejected]
        if model.into.folder is not None or (model.source.files is None and not all(map(selected_keys, legs))):
            raise Problem(
                409,
                "rejects-not-found",
                f"run {run.pk} read a query, a view or a table without a primary key: nothing says which rows they were",
                "fix the rows and run the job with mode: upsert, or with a where that finds them",
            )

    def _revision(self, run: Run) -> Revision:
        return run.job.revision


@extend_schema(tags=["runs"])
class UndoRunView(_FollowUp):
    """Undoes a run's load, where its receipt and the job allow it."""

    kind = RunKind.UNDO

    @extend_schema(request=None, responses={201: RunSerializer}, summary="Undo a run's load")
    def post(self, request: Request, number: int) -> Response:
        return self._start(request, number)

    def _require(self, run: Run) -> None:
        super()._require(run)
        if run.kind == RunKind.UNDO:
            raise Problem(409, "undo-refused", f"run {run.pk} is itself an undo", f"run the job: {run.job.name}")
        for leg in run.legs.filter(outcome=Outcome.COMMITTED).defer("plan"):
            leg.run = run
            structure = job_of(leg)
            connection = connection_named(structure["into"]["connection"])
            POOL.look(
                "undoable",
                job=structure,
                target=asdict(connection.spec()),
                run=str(run.pk),
                leg=leg.number,
                date=run_facts(run).date.isoformat(),
                loads=attempt_names(leg),
            )

    def _revision(self, run: Run) -> Revision:
        return run.revision
