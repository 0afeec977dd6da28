"""Addresses: the API under /api/v1/, its description under /api/, the console everywhere else."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse, HttpResponseRedirect, JsonResponse
from django.urls import path, re_path
from django.views.decorators.csrf import csrf_exempt, ensure_csrf_cookie
from drf_spectacular.views import SpectacularAPIView, SpectacularSwaggerSplitView

from ultravect.service.api.problems import problem_body
from ultravect.service.api.views import (
    access,
    connections,
    feeds,
    job_map,
    layouts,
    look,
    metrics,
    notifying,
    schedules,
    session,
    streams,
    system,
    today,
    uploads,
)
from ultravect.service.api.views.jobs import job as jobs
from ultravect.service.api.views.jobs import job_checks, job_runs
from ultravect.service.api.views.runs import follow_ups, run_events, run_rejects
from ultravect.service.api.views.runs import run as runs
from ultravect.service.settings import HERE

_CONSOLE = HERE / "static" / "console" / "index.html"


@ensure_csrf_cookie
def console(request: HttpRequest) -> HttpResponse:
    """The console's one page; its addresses are its own business."""
    if not _CONSOLE.exists():
        return HttpResponse(
            "The console is not built: run `npm run build` in console/.",
            status=503,
            content_type="text/plain",
        )
    return HttpResponse(_CONSOLE.read_bytes(), headers={"Cache-Control": "no-cache"})


def no_docs(request: HttpRequest, rest: str = "") -> HttpResponse:
    """What is there of the docs was answered before, as files."""
    if rest in (None, "", "/"):
        return HttpResponseRedirect("/docs/tutorial/")
    shown = "There is no such page in the docs: begin at /docs/tutorial/. If there is none at all, build them: ./dev docs."
    return HttpResponse(shown, status=404, content_type="text/plain")


@csrf_exempt
def nothing(request: HttpRequest, rest: str = "") -> JsonResponse:
    body = problem_body(404, "not-found", f"there is nothing at {request.path}", "the API is described at /api/docs")
    return JsonResponse(body, status=404, content_type="application/problem+json")


def refused(request: HttpRequest, reason: str = "") -> JsonResponse:
    """What a browser gets whose page does not say that it is ours."""
    body = problem_body(
        403, "page-unknown", f"the request does not come from a page of this service: {reason}", "reload"
    )
    return JsonResponse(body, status=403, content_type="application/problem+json")


_V1 = [
    path("health", system.HealthView.as_view()),
    path("health/live", system.LiveView.as_view()),
    path("session", session.SessionView.as_view()),
    path("tokens", session.TokensView.as_view()),
    path("tokens/<int:number>", session.TokenView.as_view()),
    path("users", access.UsersView.as_view()),
    path("users/<str:name>", access.UserView.as_view()),
    path("users-tokens", access.AllTokensView.as_view()),
    path("audit", access.AuditView.as_view()),
    path("kinds", connections.KindsView.as_view()),
    path("connections", connections.ConnectionsView.as_view()),
    path("connections/<str:name>", connections.ConnectionView.as_view()),
    path("connections/<str:name>/test", connections.ConnectionTestView.as_view()),
    path("connections/<str:name>/file", connections.ConnectionFileView.as_view()),
    path("connections/<str:name>/objects", look.ObjectsView.as_view()),
    path("connections/<str:name>/preview", look.PreviewView.as_view()),
    path("connections/<str:name>/bytes", look.RawBytesView.as_view()),
    path("connections/<str:name>/ask", look.AskView.as_view()),
    path("uploads/<path:name>", uploads.UploadView.as_view()),
    path("formats", layouts.FormatsView.as_view()),
    path("layouts", layouts.LayoutsView.as_view()),
    path("layouts/<str:name>", layouts.LayoutView.as_view()),
    path("layouts/<str:name>/versions", layouts.LayoutVersionsView.as_view()),
    path("layouts/<str:name>/fit", layouts.FitView.as_view()),
    path("feeds", feeds.FeedsView.as_view()),
    path("feeds/<str:name>", feeds.FeedView.as_view()),
    path("feeds/<str:name>/files", feeds.FeedFilesView.as_view()),
    path("feeds/<str:name>/days", feeds.FeedDaysView.as_view()),
    path("feeds/<str:name>/draft", feeds.FeedDraftView.as_view()),
    path("jobs", jobs.JobsView.as_view()),
    path("jobs/<str:name>", jobs.JobView.as_view()),
    path("jobs/<str:name>/revisions", jobs.RevisionsView.as_view()),
    path("jobs/<str:name>/check", job_checks.CheckJobView.as_view()),
    path("jobs/<str:name>/marks", job_runs.MarksView.as_view()),
    path("jobs/<str:name>/runs", job_runs.JobRunsView.as_view()),
    path("streams", streams.StreamsView.as_view()),
    path("streams/<str:name>", streams.StreamView.as_view()),
    path("streams/<str:name>/pause", streams.PauseStreamView.as_view()),
    path("streams/<str:name>/stop", streams.StopStreamView.as_view()),
    path("streams/<str:name>/minutes", streams.StreamMinutesView.as_view()),
    path("streams/<str:name>/rejects", streams.StreamRejectsView.as_view()),
    path("jobs/<str:name>/pause", schedules.PauseView.as_view()),
    path("jobs/<str:name>/resume", schedules.ResumeView.as_view()),
    path("jobs/<str:name>/fill", schedules.FillView.as_view()),
    path("notify", notifying.RulesView.as_view()),
    path("notify/<str:name>", notifying.RuleView.as_view()),
    path("notify/<str:name>/test", notifying.TestRuleView.as_view()),
    path("messages", notifying.MessagesView.as_view()),
    path("map", job_map.MapView.as_view()),
    path("map/column", job_map.ColumnMapView.as_view()),
    path("today", today.TodayView.as_view()),
    path("jobs/<str:name>/history", today.HistoryView.as_view()),
    path("schedules", schedules.SchedulesView.as_view()),
    path("schedules/times", schedules.TimesView.as_view()),
    path("check", job_checks.CheckFileView.as_view()),
    path("jobs/<str:name>/rehearse", job_checks.RehearseJobView.as_view()),
    path("jobs/<str:name>/compare", job_checks.CompareJobView.as_view()),
    path("compare", job_checks.CompareObjectsView.as_view()),
    path("rehearse", job_checks.RehearseFileView.as_view()),
    path("draft", job_checks.DraftView.as_view()),
    path("types", job_checks.TypesView.as_view()),
    path("schemas/job", jobs.JobSchemaView.as_view()),
    path("runs", runs.RunsView.as_view()),
    path("runs/<int:number>", runs.RunView.as_view()),
    path("runs/<int:number>/plan", runs.RunPlanView.as_view()),
    path("runs/<int:number>/differences", runs.DifferencesView.as_view()),
    path("runs/<int:number>/stop", runs.StopRunView.as_view()),
    path("runs/<int:number>/legs/<int:leg>/stop", runs.StopLegView.as_view()),
    path("runs/<int:number>/rejects", run_rejects.RejectsView.as_view()),
    path("runs/<int:number>/rejects.csv", run_rejects.RejectsFileView.as_view()),
    path("runs/<int:number>/rejects.jsonl", run_rejects.RejectsFileView.as_view(form="jsonl")),
    path("runs/<int:number>/retry-rejects", follow_ups.RetryRejectsView.as_view()),
    path("runs/<int:number>/changes", runs.ChangesView.as_view()),
    path("runs/<int:number>/undo", follow_ups.UndoRunView.as_view()),
    path("runs/<int:number>/events", run_events.run_events),
]
urlpatterns = [
    *[path(f"api/v1/{entry.pattern}", entry.callback) for entry in _V1],
    path("metrics", metrics.MetricsView.as_view()),
    path("api/openapi.json", SpectacularAPIView.as_view(), name="schema"),
    path("api/docs", SpectacularSwaggerSplitView.as_view(url_name="schema")),
    re_path(r"^api/(?P<rest>.*)$", nothing),
    re_path(r"^docs(/.*)?$", no_docs),
    re_path(r"^(?!static/).*$", console),
]
