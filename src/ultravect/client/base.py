"""What all answers share."""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import BaseModel, ConfigDict


class Given(BaseModel):
    """An answer of the service. Fields that this version does not know are left out, not refused."""

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)


Item = TypeVar("Item", bound=Given)


class Page(Given, Generic[Item]):
    """A page of a list; ``total`` counts the whole list."""

    items: list[Item]
    total: int
    page: int
    pages: int
