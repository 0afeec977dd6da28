"""Pages of a list."""

from __future__ import annotations

import hashlib
from functools import cached_property
from typing import Any

from django.core.cache import cache
from django.core.exceptions import EmptyResultSet
from django.core.paginator import Paginator
from django.db.models import QuerySet
from rest_framework.pagination import PageNumberPagination
from rest_framework.request import Request
from rest_framework.response import Response

from ultravect.service.api.problems import Problem

_LONG = 50_000
_COUNTED_SECONDS = 10


class _Counted(Paginator):  # type: ignore[type-arg]
    """Counts the rows of a long list anew only now and then: that would take longer than the page itself."""

    @cached_property
    def count(self) -> int:
        if not isinstance(self.object_list, QuerySet):
            return super().count
        try:
            asked = str(self.object_list.query)
        except EmptyResultSet:
            return 0
        key = f"count:{hashlib.sha256(asked.encode()).hexdigest()}"
        known: int | None = cache.get(key)
        if known is None:
            known = super().count
            if known > _LONG:
                cache.set(key, known, _COUNTED_SECONDS)
        return known

    def validate_number(self, number: int | str) -> int:
        # a list may have become shorter since its last page was asked for: then the page is empty
        return (
            self.num_pages + 1
            if str(number).isdecimal() and int(number) > self.num_pages
            else super().validate_number(number)
        )

    def page(self, number: int | str) -> Any:
        valid = self.validate_number(number)
        return self._get_page([], int(number), self) if valid > self.num_pages else super().page(valid)


class Pages(PageNumberPagination):
    """``page`` from 1, ``page_size`` up to 200."""

    django_paginator_class = _Counted
    page_size = 50
    page_size_query_param = "page_size"
    max_page_size = 200

    def get_page_size(self, request: Request) -> int | None:
        if (given := request.query_params.get("page_size")) is None:
            return self.page_size
        if not (given.isascii() and given.isdigit() and len(given) < 10 and 1 <= int(given) <= self.max_page_size):
            raise Problem(422, "input-invalid", f"page_size: a whole number from 1 to {self.max_page_size}")
        return int(given)

    def get_paginated_response(self, data: Any) -> Response:
        page = self.page
        return Response(
            {
                "items": data,
                "total": page.paginator.count,
                "page": page.number,
                "pages": page.paginator.num_pages,
            }
        )

    def get_paginated_response_schema(self, schema: dict[str, Any]) -> dict[str, Any]:
        number = {"type": "integer"}
        return {
            "type": "object",
            "required": ["items", "total", "page", "pages"],
            "properties": {"items": schema, "total": number, "page": number, "pages": number},
        }
