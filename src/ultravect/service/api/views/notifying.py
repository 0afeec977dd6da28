"""Rules for messages, and the messages."""

from __future__ import annotations

import re
import smtplib
from typing import Any

import httpx
from django.conf import settings
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone
from drf_spectacular.utils import extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.problems import did_you_mean
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.notifying import MessageSerializer, NotifyRuleSerializer
from ultravect.service.records.audit import audit
from ultravect.service.records.models import Message, NotifyRule, Occasion, Role
from ultravect.service.work.outgoing.delivery import deliver
from ultravect.service.work.outgoing.notifying import add_item

_NAME = re.compile(r"[a-z0-9]([a-z0-9_-]{0,62}[a-z0-9])?")


def _rule(name: str) -> NotifyRule:
    found = NotifyRule.objects.filter(name=name).first()
    if found is None:
        names = list(NotifyRule.objects.values_list("name", flat=True))
        raise not_found("rule", name, did_you_mean(name, names))
    return found


@extend_schema(tags=["messages"])
@extend_schema_view(get=extend_schema(summary="List rules for messages"))
class RulesView(generics.ListAPIView[NotifyRule]):
    """Who is sent a message of what."""

    serializer_class = NotifyRuleSerializer
    queryset = NotifyRule.objects.all()


@extend_schema(tags=["messages"])
class RuleView(APIView):
    """One rule, by its name."""

    writing_role = Role.ADMIN

    @extend_schema(responses=NotifyRuleSerializer, summary="Show a rule for messages")
    def get(self, request: Request, name: str) -> Response:
        return Response(NotifyRuleSerializer(_rule(name)).data)

    @extend_schema(
        request=NotifyRuleSerializer,
        responses={200: NotifyRuleSerializer, 201: NotifyRuleSerializer},
        summary="Add or change a rule for messages",
    )
    def put(self, request: Request, name: str) -> Response:
        if not _NAME.fullmatch(name):
            raise Problem(422, "input-invalid", f"{name!r} is no name: a-z, 0-9, - and _, at most 64")
        given = NotifyRuleSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        values: dict[str, Any] = dict(given.validated_data)
        key = values.pop("key", None)
        known = NotifyRule.objects.filter(name=name).first()
        if known is not None and known.sealed and key is None and known.webhook != values["webhook"]:
            what = "the webhook is another one: the key was given for the one before"
            raise Problem(422, "secret-needed", what, "give the key anew, or an empty one")
        if key is not None:
            values["sealed"] = settings.SEALING_KEYS.seal({"key": key}) if key else ""
        with transaction.atomic():
            rule, created = NotifyRule.objects.update_or_create(name=name, defaults=values)
            audit(request, "save", "rule", name)
        return Response(NotifyRuleSerializer(rule).data, status=201 if created else 200)

    @extend_schema(responses={204: None}, summary="Remove a rule, with its messages")
    def delete(self, request: Request, name: str) -> Response:
        with transaction.atomic():
            _rule(name).delete()
            audit(request, "remove", "rule", name)
        return Response(status=204)


@extend_schema(tags=["messages"])
class TestRuleView(APIView):
    """Sends a message that says that it is a test, at once."""

    writing_role = Role.ADMIN

    @extend_schema(request=None, responses=MessageSerializer, summary="Send a test message")
    def post(self, request: Request, name: str) -> Response:
        rule, now = _rule(name), timezone.now()
        with transaction.atomic():
            item = {"text": f"a test, which {request.user.get_username()} has asked for"}
            message = add_item(rule, Occasion.TEST, f"test/{now}", item, now)
            message.attempts, message.send_at = 99, now
            message.save(update_fields=["attempts", "send_at"])
        try:
            deliver(message)
        except (OSError, smtplib.SMTPException, httpx.HTTPError, ValueError) as error:
            reason = " ".join(str(error).split())[:300] or type(error).__name__
            Message.objects.filter(pk=message.pk).update(error=reason)
            raise Problem(
                502, "message-not-sent", f"rule {name}: {reason}", "check the address, and ULTRAVECT_MAIL_SERVER"
            ) from None
        message.sent_at = timezone.now()
        message.save(update_fields=["sent_at"])
        return Response(MessageSerializer(message).data)


@extend_schema(tags=["messages"])
@extend_schema_view(get=extend_schema(summary="List messages, the newest first"))
class MessagesView(generics.ListAPIView[Message]):
    """What was sent, or is to be."""

    serializer_class = MessageSerializer

    def get_queryset(self) -> QuerySet[Message]:
        return Message.objects.select_related("rule")
