"""Declarations in a request's body: as JSON, or as the file that someone wrote."""

from __future__ import annotations

from typing import Any, TypeVar

from drf_spectacular.types import OpenApiTypes
from pydantic import BaseModel
from rest_framework.parsers import BaseParser, JSONParser
from rest_framework.request import Request

from ultravect.core.model.document import Declaration, DeclarationError, write_file
from ultravect.core.model.edits import with_edits
from ultravect.service.api.problems import Problem

M = TypeVar("M", bound=BaseModel)
MAX_FILE = 128 << 10
FILE_REQUEST: dict[Any, Any] = {"application/json": OpenApiTypes.OBJECT, "application/yaml": OpenApiTypes.STR}


class FileParser(BaseParser):
    """A file as it is, comments and all."""

    media_type = "application/yaml"

    def parse(self, stream: Any, media_type: Any = None, parser_context: Any = None) -> str:
        try:
            data = stream.read(MAX_FILE + 1)
            if len(data) > MAX_FILE:
                size = f"{MAX_FILE >> 10:,} KiB"
                raise Problem(
                    413, "file-too-large", f"a job, connection, feed or layout file has at most {size}", "split it"
                )
            return str(data.decode("utf-8"))
        except UnicodeDecodeError as error:
            raise Problem(422, "input-invalid", f"the file is not UTF-8: {error.reason}") from None


FILE_PARSERS = [JSONParser, FileParser]


def structure_of(declared: BaseModel) -> dict[str, Any]:
    """What a declaration says, without what equals the defaults."""
    return {"ultravect": 1, **declared.model_dump(mode="json", by_alias=True, exclude_defaults=True)}


def given_file(request: Request, declaration: Declaration[M]) -> tuple[M, str]:
    """The declaration in a request's body, and its text."""
    if isinstance(request.data, str):
        try:
            declared, document = declaration.read_text(request.data)
        except DeclarationError as error:
            error.problems = with_edits(error.problems, request.data)
            raise
        return declared, document.text
    declared = declaration.read(request.data)
    return declared, write_file(structure_of(declared))
