"""Signing in: a session for the console, tokens for programs."""

from __future__ import annotations

import datetime as dt

from django.contrib.auth import login, logout
from django.db import transaction
from django.utils import timezone
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect, ensure_csrf_cookie
from drf_spectacular.utils import extend_schema
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.people import (
    NewTokenSerializer,
    SignInSerializer,
    TokenRequestSerializer,
    TokenSerializer,
    UserSerializer,
)
from ultravect.service.records.audit import address_of, audit
from ultravect.service.records.models import Role, Token, User
from ultravect.service.records.sign_in import TooMany, check_password


def _authenticate(request: Request, user: str, password: str) -> User:
    try:
        found = check_password(user, password, address_of(request._request))
    except TooMany as error:
        audit(request, "sign-in-limited", "user", user, user=user)
        raise Problem(
            429,
            "too-many-sign-ins",
            "this account, or this address, has tried to sign in too often",
            f"wait {error.seconds} s and try again",
            retry_after=error.seconds,
        ) from None
    if found is None:
        audit(request, "sign-in-refused", "user", user, user=user)
        raise Problem(401, "sign-in-refused", "user and password do not match", "check both for typing errors")
    audit(request, "sign-in", "user", user, user=user)
    return found


@extend_schema(tags=["session"])
class SessionView(APIView):
    """The console's session, in a cookie."""

    permission_classes = [AllowAny]

    @extend_schema(responses=UserSerializer, summary="Who is signed in")
    @method_decorator(ensure_csrf_cookie)
    def get(self, request: Request) -> Response:
        if not request.user.is_authenticated:
            raise Problem(401, "not-signed-in", "no one is signed in", "sign in")
        return Response(UserSerializer(request.user).data)

    @extend_schema(request=SignInSerializer, responses=UserSerializer, summary="Sign in")
    @method_decorator(csrf_protect)
    def post(self, request: Request) -> Response:
        given = SignInSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        user = _authenticate(request, given.validated_data["user"], given.validated_data["password"])
        login(request._request, user, backend="django.contrib.auth.backends.ModelBackend")
        return Response(UserSerializer(user).data)

    @extend_schema(responses={204: None}, summary="Sign out")
    @method_decorator(csrf_protect)
    def delete(self, request: Request) -> Response:
        logout(request._request)
        return Response(status=204)


@extend_schema(tags=["session"])
class TokensView(APIView):
    """Tokens of the one who asks."""

    permission_classes = [AllowAny]

    @extend_schema(responses=TokenSerializer(many=True), summary="List own tokens")
    def get(self, request: Request) -> Response:
        if not request.user.is_authenticated:
            raise Problem(401, "not-signed-in", "no one is signed in", "sign in")
        if request.user.only_jobs:
            raise Problem(403, "not-allowed", "a token of single jobs shows no other tokens")
        return Response(TokenSerializer(request.user.tokens.order_by("id"), many=True).data)

    @extend_schema(request=TokenRequestSerializer, responses={201: NewTokenSerializer}, summary="Issue a token")
    def post(self, request: Request) -> Response:
        given = TokenRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        parent: Token | None = None
        if "user" in data:
            user = _authenticate(request, data["user"], data.get("password", ""))
        elif request.user.is_authenticated:
            user = request.user
            parent = request.auth if isinstance(request.auth, Token) else None
        else:
            raise Problem(401, "not-signed-in", "a token takes `user` and `password`", "send them, or sign in first")
        most = user.effective_role
        role = data.get("role") or user.limited_to or ""
        if role and Role(role).rank > most.rank:
            raise Problem(403, "not-allowed", f"a token cannot have the role {role}: {user.username} is {most}")
        jobs = data.get("jobs") or []
        if jobs and most.rank < Role.OPERATOR.rank:
            raise Problem(403, "not-allowed", f"runs are started by operators; {user.username} is {most}")
        if request.user.is_authenticated and request.user.only_jobs:
            raise Problem(403, "not-allowed", "a token of single jobs makes no other tokens")
        if (sites := data.get("sites")) and most != Role.ADMIN:
            raise Problem(403, "not-allowed", f"a token for workers takes the role admin; {user.username} is {most}")
        expires = timezone.now() + dt.timedelta(days=data["days"]) if "days" in data else None
        if parent is not None and parent.expires_at is not None:
            # none outlives the one that has made it
            expires = min(expires or parent.expires_at, parent.expires_at)
        with transaction.atomic():
            token, text = Token.issue(user, data["label"], role, expires, sites or [], jobs, parent)
            audit(
                request,
                "issue",
                "token",
                data["label"],
                user=user.username,
                id=token.pk,
                role=role,
                **({"sites": ", ".join(token.sites)} if token.sites else {}),
                **({"jobs": ", ".join(token.jobs)} if token.jobs else {}),
            )
        token.token = text  # type: ignore[attr-defined]
        return Response(NewTokenSerializer(token).data, status=201)


@extend_schema(tags=["session"])
class TokenView(APIView):
    """One token: of the one who asks, or for admins of anyone."""

    writing_role = Role.VIEWER

    @extend_schema(responses={204: None}, summary="Withdraw a token")
    def delete(self, request: Request, number: int) -> Response:
        tokens = Token.objects.all() if request.user.may(Role.ADMIN) else Token.objects.filter(user=request.user)
        token = tokens.select_related("user").filter(pk=number).first()
        if token is None:
            raise not_found("token", number)
        own = request.auth if isinstance(request.auth, Token) else None
        if own is not None and own.is_limited and not request.user.may(Role.ADMIN) and not token.comes_from(own):
            raise Problem(
                403,
                "not-allowed",
                "a token with limits withdraws itself and those that it has made, and no others",
                "sign in, or use a token without limits",
            )
        with transaction.atomic():
            audit(request, "withdraw", "token", token.label, id=number, owner=token.user.username)
            token.delete()
        return Response(status=204)
