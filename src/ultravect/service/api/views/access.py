"""Who has access: users, their tokens, and the log of what they did. For admins."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import QuerySet
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.people import (
    AccountSerializer,
    AuditEntrySerializer,
    ChangeUserSerializer,
    NewUserSerializer,
    TokenSerializer,
)
from ultravect.service.records.audit import audit
from ultravect.service.records.models import AuditEntry, Role, Token, User


def require_strong(password: str, user: User) -> None:
    """Problem unless a password is strong enough."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        errors = [{"pointer": "/password", "message": message} for message in error.messages]
        raise Problem(422, "password-weak", " ".join(error.messages), "take a longer one", errors) from None


@extend_schema(tags=["access"])
@extend_schema_view(get=extend_schema(summary="List users"))
class UsersView(generics.ListAPIView[User]):
    """All users."""

    reading_role = Role.ADMIN
    writing_role = Role.ADMIN
    queryset = User.objects.order_by("username")
    serializer_class = AccountSerializer

    @extend_schema(request=NewUserSerializer, responses={201: AccountSerializer}, summary="Add a user")
    def post(self, request: Request) -> Response:
        given = NewUserSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        if User.objects.filter(username=data["name"]).exists():
            raise Problem(409, "user-exists", f"there is a user {data['name']!r} already")
        made = User(username=data["name"], role=data["role"])
        require_strong(data["password"], made)
        with transaction.atomic():
            made.set_password(data["password"])
            made.save()
            audit(request, "add", "user", made.username, role=made.role)
        return Response(AccountSerializer(made).data, status=201)


@extend_schema(tags=["access"])
class UserView(APIView):
    """One user. Users are disabled, not removed: what they did stays theirs."""

    reading_role = Role.ADMIN
    writing_role = Role.ADMIN

    @extend_schema(request=ChangeUserSerializer, responses=AccountSerializer, summary="Change a user")
    def patch(self, request: Request, name: str) -> Response:
        given = ChangeUserSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            # all admins are locked, so that two requests cannot remove the last two at once
            admins = list(User.objects.select_for_update().filter(role=Role.ADMIN, is_active=True))
            user = User.objects.filter(username=name).first()
            if user is None:
                raise not_found("user", name)
            self._change(user, given.validated_data)
            if [user.pk] == [admin.pk for admin in admins] and not (user.is_active and user.role == Role.ADMIN):
                raise Problem(
                    409, "last-admin", f"{name} is the last admin, and stays one", "make another user an admin first"
                )
            user.save()
            if not user.is_active or "password" in given.validated_data:
                user.tokens.all().delete()
            changed = {key: value for key, value in given.validated_data.items() if key != "password"}
            if "password" in given.validated_data:
                changed["password"] = "changed"
            audit(request, "change", "user", name, **changed)
        return Response(AccountSerializer(user).data)

    @staticmethod
    def _change(user: User, data: dict[str, Any]) -> None:
        if "role" in data:
            user.role = data["role"]
        if "active" in data:
            user.is_active = data["active"]
        if "password" in data:
            require_strong(data["password"], user)
            user.set_password(data["password"])


@extend_schema(tags=["access"])
@extend_schema_view(get=extend_schema(summary="List the tokens of all users"))
class AllTokensView(generics.ListAPIView[Token]):
    """Tokens of everybody, without their texts."""

    reading_role = Role.ADMIN
    queryset = Token.objects.select_related("user").order_by("user__username", "id")
    serializer_class = TokenSerializer


@extend_schema(tags=["access"])
@extend_schema_view(
    get=extend_schema(
        summary="Show the audit log, the newest first",
        parameters=[OpenApiParameter(name, str) for name in ("kind", "name", "user")],
    )
)
class AuditView(generics.ListAPIView[AuditEntry]):
    """Who did what to which connection, job, layout, token or user, and from where."""

    reading_role = Role.ADMIN
    serializer_class = AuditEntrySerializer

    def get_queryset(self) -> QuerySet[AuditEntry]:
        entries = AuditEntry.objects.all()
        for field in ("kind", "name", "user"):
            if value := self.request.query_params.get(field):
                entries = entries.filter(**{field: value})
        return entries
