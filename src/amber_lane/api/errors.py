"""Every failure as RFC 9457 problem details, in one place. Never a stack trace."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

import structlog
from fastapi import FastAPI, HTTPException, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import OperationalError
from starlette.exceptions import HTTPException as StarletteHTTPException

from ..connectors.errors import OutsideError
from ..core.states import NotAllowed
from ..data.turns import TooLong
from ..services.desk import Conflict, DeskError, Invalid, NotFound
from ..sheets.opened import NotASheet

log = structlog.get_logger()
STATUS: dict[type[Exception], int] = {NotFound: 404, Conflict: 409, Invalid: 422, NotASheet: 422, NotAllowed: 409, OutsideError: 502}


def problem(status: int, told: str, **more: Any) -> JSONResponse:
    """One error shape for all."""
    body = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": told, **more}
    return JSONResponse(body, status, media_type="application/problem+json")


def add_errors(app: FastAPI) -> None:
    """Map every exception to its status."""

    async def known(_: Request, error: Exception) -> JSONResponse:
        status = next((code for kind, code in STATUS.items() if isinstance(error, kind)), 400)
        told = error.told if isinstance(error, (DeskError, OutsideError)) else str(error)
        return problem(status, told, **({"fields": error.fields} if isinstance(error, Invalid) else {}))

    async def refused(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, StarletteHTTPException)
        answer = problem(error.status_code, str(error.detail))
        answer.headers.update(error.headers or {})
        return answer

    async def unreadable(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, RequestValidationError)
        fields = {".".join(str(part) for part in one["loc"][1:]) or "body": one["msg"] for one in error.errors()}
        return problem(422, "; ".join(f"{name}: {told}" for name, told in list(fields.items())[:5]), fields=fields)

    async def busy(_: Request, error: Exception) -> JSONResponse:
        log.exception("database failed", exc_info=error)
        return problem(503, "the data is busy for the moment; nothing was changed, try again")

    async def broken(_: Request, error: Exception) -> JSONResponse:
        log.exception("request failed", exc_info=error)
        return problem(500, "something broke here and nothing was changed; the log says what it was")

    for kind in (DeskError, OutsideError, NotASheet, NotAllowed):
        app.add_exception_handler(kind, known)
    app.add_exception_handler(HTTPException, refused)
    app.add_exception_handler(StarletteHTTPException, refused)
    app.add_exception_handler(RequestValidationError, unreadable)
    app.add_exception_handler(OperationalError, busy)
    app.add_exception_handler(TooLong, busy)
    app.add_exception_handler(Exception, broken)
