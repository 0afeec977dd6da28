"""What serializers share: names, and texts that are texts."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

NAME = r"^[a-z0-9]([a-z0-9_-]{0,62}[a-z0-9])?$"


NAME_RULE = {"invalid": "a name has lower-case letters, digits, - and _, at most 64, a letter or digit first"}


class Text(serializers.CharField):
    """A text, and nothing that would have to be made into one."""

    def to_internal_value(self, data: Any) -> str:
        if not isinstance(data, str):
            self.fail("invalid")
        return str(super().to_internal_value(data))


class NamePattern(serializers.RegexField):
    """A text that matches a pattern."""

    def to_internal_value(self, data: Any) -> str:
        if not isinstance(data, str):
            self.fail("invalid")
        return str(super().to_internal_value(data))


class YesOrNo(serializers.BooleanField):
    """A truth value; as a word only where it comes in an address."""

    def to_internal_value(self, data: Any) -> bool:
        if not isinstance(data, bool | str):
            self.fail("invalid", input=data)
        return bool(super().to_internal_value(data))
