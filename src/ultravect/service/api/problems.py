"""Errors as application/problem+json (RFC 9457)."""

from __future__ import annotations

from typing import Any

import structlog
from django.core.exceptions import PermissionDenied
from django.db import DataError, InterfaceError, OperationalError
from django.http import Http404
from rest_framework import exceptions, status
from rest_framework.response import Response
from rest_framework.views import set_rollback

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import DeclarationError
from ultravect.service.records.models import SecretsNeeded
from ultravect.service.sealing import SealBroken
from ultravect.service.work.processes.look_processes import LookFailed

log = structlog.get_logger()


class Problem(exceptions.APIException):
    """An error of the API itself."""

    def __init__(
        self,
        status_code: int,
        code: str,
        detail: str,
        hint: str = "",
        errors: list[dict[str, Any]] | None = None,
        *,
        retry_after: int | None = None,
    ) -> None:
        super().__init__(detail)
        self.retry_after = retry_after
        self.status_code = status_code
        self.problem = problem_body(status_code, code, detail, hint, errors)


def problem_body(
    status_code: int,
    code: str,
    detail: str,
    hint: str = "",
    errors: list[dict[str, Any]] | None = None,
    **more: Any,
) -> dict[str, Any]:
    body: dict[str, Any] = {
        "type": f"about:blank#{code}",
        "title": code.replace("-", " "),
        "status": status_code,
    }
    body |= {"code": code, "detail": detail, "hint": hint, **more}
    return body | ({"errors": errors} if errors else {})


def not_found(what: str, name: object, hint: str = "") -> Problem:
    return Problem(404, f"{what}-unknown", f"there is no {what} {name!r}", hint)


def _flatten(detail: Any, pointer: str = "") -> list[dict[str, Any]]:
    if isinstance(detail, dict):
        return [entry for key, value in detail.items() for entry in _flatten(value, f"{pointer}/{key}")]
    if isinstance(detail, list):
        return [entry for value in detail for entry in _flatten(value, pointer)]
    return [{"pointer": pointer.replace("/non_field_errors", ""), "message": str(detail)}]


def _body(error: Exception) -> tuple[int, dict[str, Any]]:
    match error:
        case Problem():
            return error.status_code, error.problem
        case DeclarationError():
            errors = [problem.as_dict() for problem in error.problems]
            return 422, problem_body(422, error.code, error.detail, error.hint, errors)
        case UltravectError():
            return 422, problem_body(422, error.code, error.detail, error.hint, where=error.where)
        case SecretsNeeded():
            moved, keys = ", ".join(error.moved), ", ".join(error.keys)
            detail = (
                f"with another {moved}, the connection's {keys} would be sent elsewhere, as another user, or less well "
                "protected than where it was given for"
            )
            errors = [{"pointer": f"/settings/{key}", "message": "give it anew"} for key in error.keys]
            return 422, problem_body(422, "secret-needed", detail, f"send {keys} together with {moved}", errors)
        case LookFailed():
            detail = f"unexpected: {error}; the service's log has the details"
            return 500, problem_body(500, "internal-error", detail, "please report this")
        case RecursionError():
            return 422, problem_body(422, "input-too-deep", "the body is nested too deeply", "flatten it")
        case DataError():
            detail = "a text or a number cannot be kept: it has a NUL character, or is too large"
            return 422, problem_body(422, "input-invalid", detail)
        case OperationalError() | InterfaceError():
            log.warning("the records do not answer", reason=str(error).partition("\n")[0])
            detail = "the service's own database does not answer at this moment"
            return 503, problem_body(503, "records-unreachable", detail, "try again in a moment")
        case SealBroken():
            return 409, problem_body(409, "seal-broken", str(error), error.hint)
        case exceptions.ValidationError():
            errors = _flatten(error.detail)
            first = errors[0] if errors else {"pointer": "", "message": ""}
            detail = f"{first['pointer'].lstrip('/')}: {first['message']}".removeprefix(": ")
            return 422, problem_body(422, "input-invalid", detail, errors=errors)
        case exceptions.NotAuthenticated() | exceptions.AuthenticationFailed():
            hint = "sign in, or send `Authorization: Bearer` and a token"
            return error.status_code, problem_body(error.status_code, "not-signed-in", str(error.detail), hint)
        case exceptions.PermissionDenied():
            return 403, problem_body(403, "not-allowed", str(error.detail), "ask an admin for the role")
        case exceptions.APIException():
            code = str(error.default_code).replace("_", "-")
            return error.status_code, problem_body(error.status_code, code, str(error.detail))
        case Http404():
            return 404, problem_body(404, "not-found", "there is nothing at this address")
        case PermissionDenied():
            return 403, problem_body(403, "not-allowed", str(error) or "this is not allowed")
    log.error("request failed unexpectedly", exc_info=error)
    detail = f"unexpected: {type(error).__name__}; the service's log has the details"
    return status.HTTP_500_INTERNAL_SERVER_ERROR, problem_body(500, "internal-error", detail, "please report this")


def handle(error: Exception, context: dict[str, Any]) -> Response:
    """DRF's exception handler."""
    code, body = _body(error)
    set_rollback()
    response = Response(body, status=code, content_type="application/problem+json")
    if isinstance(error, exceptions.APIException) and (header := getattr(error, "auth_header", None)):
        response["WWW-Authenticate"] = header
    if code == status.HTTP_503_SERVICE_UNAVAILABLE:
        response["Retry-After"] = "1"
    if isinstance(error, Problem) and error.retry_after:
        response["Retry-After"] = str(error.retry_after)
    return response
