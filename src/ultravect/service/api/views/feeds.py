"""Feeds: saved as revisions, with the register of their files."""

from __future__ import annotations

from dataclasses import asdict

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.document import FEED
from ultravect.core.model.problems import did_you_mean
from ultravect.service.api.files import FILE_PARSERS, FILE_REQUEST, given_file, structure_of
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.declaring import DraftSerializer
from ultravect.service.api.serializers.feed_serializers import (
    DaysInputSerializer,
    DraftVersionInputSerializer,
    FeedDaysSerializer,
    FeedFileSerializer,
    FeedSerializer,
    FilesInputSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.records.audit import audit
from ultravect.service.records.feed_days import feed_days
from ultravect.service.records.lookup import names_of
from ultravect.service.records.models import Feed, FeedEntry, FeedRevision, Role
from ultravect.service.records.resolved import find_feed, jobs_of_feed, resolved_feed
from ultravect.service.records.versions import save_version
from ultravect.service.work.processes.look_pool import POOL

_EXAMPLE = OpenApiExample(
    "Two agencies",
    value={
        "ultravect": 1,
        "feed": "partner-bookings",
        "connection": "incoming",
        "files": "agencies/*",
        "columns": [{"name": "booking_id", "type": "integer"}, {"name": "hut", "type": "text(4)"}],
        "providers": {
            "bergfrei": {
                "files": "agencies/bergfrei-*.csv",
                "versions": [{"columns": ["Nr as booking_id", "Hut as hut"]}],
            },
            "sentier": {"files": "agencies/sentier*", "versions": [{"columns": ["ref as booking_id", "hut"]}]},
        },
    },
    request_only=True,
)


def feed_named(name: str) -> Feed:
    feed = find_feed(name)
    if feed is None:
        names = names_of(Feed)
        raise not_found("feed", name, did_you_mean(name, names))
    return feed


@extend_schema(tags=["feeds"])
@extend_schema_view(get=extend_schema(summary="List feeds", parameters=[OpenApiParameter("search", str)]))
class FeedsView(generics.ListAPIView[Feed]):
    """All feeds."""

    serializer_class = FeedSerializer

    def get_queryset(self) -> QuerySet[Feed]:
        return Feed.objects.filter(deleted_at=None, name__icontains=self.request.query_params.get("search", ""))


@extend_schema(tags=["feeds"])
class FeedView(APIView):
    """One feed, by its name."""

    parser_classes = FILE_PARSERS

    @extend_schema(responses=FeedSerializer, summary="Show a feed")
    def get(self, request: Request, name: str) -> Response:
        return Response(FeedSerializer(feed_named(name)).data)

    @extend_schema(
        request=FILE_REQUEST,
        examples=[_EXAMPLE],
        responses={200: FeedSerializer, 201: FeedSerializer},
        summary="Save a feed as a new revision",
    )
    def put(self, request: Request, name: str) -> Response:
        declared, text = given_file(request, FEED)
        if declared.feed != name:
            raise Problem(422, "feed-name-differs", f"the file is of feed {declared.feed!r}, the address of {name!r}")
        connection_named(declared.connection)
        structure = structure_of(declared)
        POOL.look("feed", feed=resolved_feed(structure))
        with transaction.atomic():
            feed, new, number = save_version(Feed, FeedRevision, "feed", name, text, structure, request.user)
            if number is not None:
                audit(request, "save", "feed", name, revision=number)
                Feed.objects.filter(pk=feed.pk).update(expected_at=None)
        return Response(FeedSerializer(feed).data, status=201 if new else 200)

    @extend_schema(responses={204: None}, summary="Remove a feed that no job names")
    def delete(self, request: Request, name: str) -> Response:
        feed = feed_named(name)
        users = [job.name for job in jobs_of_feed(name)]
        if users:
            shown = f"feed {name!r} is named by {', '.join(users)}"
            raise Problem(409, "feed-in-use", shown, "remove or change these jobs first")
        feed.deleted_at = timezone.now()
        with transaction.atomic():
            feed.save(update_fields=["deleted_at"])
            audit(request, "remove", "feed", name)
        return Response(status=204)


@extend_schema(tags=["feeds"])
@extend_schema_view(get=extend_schema(summary="List a feed's files", parameters=[FilesInputSerializer]))
class FeedFilesView(generics.ListAPIView[FeedEntry]):
    """The register: every file that a run has seen, the newest first."""

    serializer_class = FeedFileSerializer

    def get_queryset(self) -> QuerySet[FeedEntry]:
        given = FilesInputSerializer(data=self.request.query_params.dict())
        given.is_valid(raise_exception=True)
        entries = FeedEntry.objects.filter(feed=feed_named(self.kwargs["name"]))
        asked = given.validated_data
        for field in ("state", "provider"):
            if asked.get(field):
                entries = entries.filter(**{field: asked[field]})
        return entries.filter(path__icontains=asked["search"]) if asked.get("search") else entries


@extend_schema(tags=["feeds"])
class FeedDaysView(APIView):
    """Providers by days: what came, and what is missing."""

    @extend_schema(parameters=[DaysInputSerializer], responses=FeedDaysSerializer, summary="Show a feed by days")
    def get(self, request: Request, name: str) -> Response:
        given = DaysInputSerializer(data=request.query_params)
        given.is_valid(raise_exception=True)
        return Response(feed_days(feed_named(name), given.validated_data["days"], timezone.now()))


@extend_schema(tags=["feeds"])
class FeedDraftView(APIView):
    """A new version, or a new provider, from a file that fits none."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=DraftVersionInputSerializer,
        responses=DraftSerializer,
        summary="Draft a version of a feed from a file",
    )
    def post(self, request: Request, name: str) -> Response:
        given = DraftVersionInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        structure = resolved_feed(feed_named(name).revision.structure)
        spec = asdict(connection_named(structure["connection"]).spec())
        path, provider = given.validated_data["path"], given.validated_data.get("provider", "")
        if not provider:
            entry = FeedEntry.objects.filter(feed__name=name, path=path).first()
            provider = entry.provider if entry else ""
        return Response({"file": POOL.look("draft_feed", feed=structure, spec=spec, path=path, provider=provider)})
