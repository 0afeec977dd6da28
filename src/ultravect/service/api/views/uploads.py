"""Uploaded files: they land in the managed folder connection `uploads`."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from django.conf import settings
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.parsers import BaseParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.inside import leads_out, within
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.response_parts import UploadSerializer
from ultravect.service.api.views.look import yes_or_no
from ultravect.service.records.models import UPLOADS_NAME, Role

_CHUNK = 1 << 20
_MAX_NAME = 200


class _AnyBytes(BaseParser):
    """The body as it is: it is read by the view, in pieces."""

    media_type = "*/*"

    def parse(self, stream: object, media_type: object = None, parser_context: object = None) -> object:
        return stream


def _place(name: str) -> Path:
    """Where an upload lands; Problem when its name leads elsewhere."""
    if not settings.UPLOADS:
        raise Problem(409, "uploads-off", "this service takes no uploads", "start it with ULTRAVECT_UPLOADS")
    parts = name.split("/")
    if any(
        part in ("", ".", "..") or part.startswith(".") or "\0" in part or len(part.encode()) > _MAX_NAME
        for part in parts
    ):
        raise Problem(
            422,
            "upload-name-invalid",
            f"{name[:100]!r} is no name for a file here",
            "no .., no empty or hidden parts",
        )
    root = Path(settings.UPLOADS).resolve()
    place = root.joinpath(*parts)
    if leads_out(name) or within(place.parent, [root]) is None:
        raise Problem(
            422, "upload-name-invalid", f"{name[:100]!r} leads out of the folder of uploads", "use another name"
        )
    return place


@extend_schema(tags=["uploads"])
class UploadView(APIView):
    """One uploaded file."""

    writing_role = Role.OPERATOR
    parser_classes = [_AnyBytes]

    @extend_schema(
        request={"application/octet-stream": OpenApiTypes.BINARY},
        parameters=[
            OpenApiParameter("replace", bool, description="Whether a file of this name may be there already")
        ],
        responses={201: UploadSerializer, 200: UploadSerializer},
        summary="Upload a file: its bytes are the body",
    )
    def put(self, request: Request, name: str) -> Response:
        place = _place(name)
        replaced = place.exists()
        if not yes_or_no(request, "replace") and replaced:
            raise Problem(
                409,
                "upload-exists",
                f"there is an upload {name!r} already",
                "choose another name, or replace it (--replace)",
            )
        place.parent.mkdir(parents=True, exist_ok=True)
        # whole or not at all: it gets its name when its last byte is there
        part = place.parent / f".{secrets.token_hex(8)}.part"
        try:
            size = self._receive(request, part)
            os.replace(part, place)
        finally:
            part.unlink(missing_ok=True)
        body = {"connection": UPLOADS_NAME, "object": name, "size": size, "replaced": replaced}
        return Response(body, status=200 if replaced else 201)

    @staticmethod
    def _receive(request: Request, part: Path) -> int:
        size = 0
        stream = request._request
        with open(part, "xb", opener=lambda path, flags: os.open(path, flags, 0o600)) as file:
            while chunk := stream.read(_CHUNK):
                size += len(chunk)
                if size > settings.UPLOAD_LIMIT_BYTES:
                    limit = f"{settings.UPLOAD_LIMIT_BYTES >> 20:,} MiB"
                    raise Problem(
                        413,
                        "upload-too-large",
                        f"the file is larger than {limit}",
                        "put it where a connection can read it",
                    )
                file.write(chunk)
        promised = request.headers.get("Content-Length", "")
        if promised.isdigit() and int(promised) != size:
            raise Problem(400, "upload-cut-off", f"{size:,} of {int(promised):,} bytes arrived", "send it again")
        return size

    @extend_schema(responses={204: None}, summary="Remove an upload")
    def delete(self, request: Request, name: str) -> Response:
        place = _place(name)
        if not place.is_file():
            raise not_found("upload", name)
        place.unlink()
        return Response(status=204)
