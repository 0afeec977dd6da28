"""Users, tokens, and who did what."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from ultravect.core.model.problems import did_you_mean
from ultravect.service.api.serializers.common import NamePattern, Text, YesOrNo
from ultravect.service.records.lookup import names_of
from ultravect.service.records.models import AuditEntry, Job, Role, Token, User
from ultravect.service.work.workers.sites import HOME, SITE_PATTERN


class UserSerializer(serializers.ModelSerializer[User]):
    name = Text(source="username")
    role = serializers.ChoiceField(choices=Role.choices)

    class Meta:
        model = User
        fields = ["name", "role"]


class AccountSerializer(UserSerializer):
    active = YesOrNo(source="is_active")
    last_login = serializers.DateTimeField(allow_null=True)

    class Meta(UserSerializer.Meta):
        fields = [*UserSerializer.Meta.fields, "active", "last_login"]


class NewUserSerializer(serializers.Serializer[Any]):
    name = NamePattern(r"^[\w.@+-]{1,150}$", help_text="Letters, digits, and . @ + - _")
    role = serializers.ChoiceField(choices=Role.choices, default=Role.VIEWER)
    password = Text(trim_whitespace=False, write_only=True, max_length=1000)


class ChangeUserSerializer(serializers.Serializer[Any]):
    role = serializers.ChoiceField(choices=Role.choices, required=False)
    active = YesOrNo(required=False, help_text="false: the user cannot sign in, and has no tokens.")
    password = Text(required=False, trim_whitespace=False, write_only=True, max_length=1000)


class AuditEntrySerializer(serializers.ModelSerializer[AuditEntry]):
    detail = serializers.DictField()

    class Meta:
        model = AuditEntry
        fields = ["id", "at", "user", "address", "action", "kind", "name", "detail"]
        read_only_fields = fields


_SITE_RULE = {"invalid": "a site has lower-case letters, digits, - and _, at most 40, a letter or digit first"}


class SignInSerializer(serializers.Serializer[Any]):
    user = Text(max_length=150)
    password = Text(trim_whitespace=False, write_only=True, max_length=1000)


class TokenRequestSerializer(SignInSerializer):
    """With ``user`` and ``password``, or as the one signed in."""

    user = Text(required=False, max_length=150)
    password = Text(required=False, trim_whitespace=False, write_only=True, max_length=1000)
    label = Text(default="token", max_length=100)
    role = serializers.ChoiceField(
        choices=Role.choices,
        required=False,
        help_text="The most that the token may do; left out: all that its user may.",
    )
    days = serializers.IntegerField(
        required=False, min_value=1, max_value=3650, help_text="Days after which it expires; left out: never."
    )
    sites = serializers.ListField(
        child=NamePattern(SITE_PATTERN, error_messages=_SITE_RULE),
        required=False,
        max_length=20,
        help_text="For workers of these sites that join by HTTPS; such a token may do nothing else. Made by admins.",
    )

    jobs = serializers.ListField(
        child=serializers.CharField(max_length=64),
        required=False,
        max_length=100,
        help_text="The token may only start runs of these jobs, and see them.",
    )

    def validate_jobs(self, jobs: list[str]) -> list[str]:
        names = names_of(Job)
        for name in jobs:
            if name not in names:
                raise serializers.ValidationError(f"there is no job {name!r} {did_you_mean(name, names)}".strip())
        return sorted(set(jobs))

    def validate_sites(self, sites: list[str]) -> list[str]:
        if HOME in sites:
            raise serializers.ValidationError(
                f"the site {HOME!r} is the service's own place; give the worker's network a name of its own"
            )
        return sorted(set(sites))


class TokenSerializer(serializers.ModelSerializer[Token]):
    owner = Text(source="user.username")
    role = Text(help_text="The most that it may do; empty: all that its owner may.")
    sites = serializers.ListField(
        child=Text(), read_only=True, help_text="Of the workers that join with it; empty: it is for other programs."
    )
    jobs = serializers.ListField(
        child=Text(),
        read_only=True,
        help_text="Whose runs it may start and see, and nothing else; empty: it is for more.",
    )

    class Meta:
        model = Token
        fields = ["id", "label", "owner", "role", "sites", "jobs", "created_at", "used_at", "expires_at"]
        read_only_fields = ["id", "label", "created_at", "used_at", "expires_at"]


class NewTokenSerializer(TokenSerializer):
    token = Text(read_only=True, help_text="Shown this once.")
    user = UserSerializer(read_only=True)

    class Meta(TokenSerializer.Meta):
        fields = [*TokenSerializer.Meta.fields, "token", "user"]
