"""Pages of a list."""

from __future__ import annotations

from typing import Any

from rest_framework.pagination import PageNumberPagination
from rest_framework.request import Request
from rest_framework.response import Response

from ultravect.service.api.problems import Problem


class Pages(PageNumberPagination):
    """``page`` from 1, ``page_size`` up to 200."""

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
