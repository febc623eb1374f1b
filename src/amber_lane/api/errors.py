"""Every failure as RFC 9457 problem details, in one place. Never a stack trace."""

from __future__ import annotations

from http import HTTPStatus

import anyio.to_thread
import orjson
import structlog
from fastapi import FastAPI, HTTPException, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import OperationalError
from starlette.exceptions import HTTPException as StarletteHTTPException

from ..connectors.errors import OutsideError
from ..core.machine import NotAllowed
from ..core.permissions import Permission
from ..data.turns import TooLong
from ..services.base.errors import AboveLimit, Conflict, DearerNow, Invalid, MayNot, NotFound, UseCaseError
from ..services.people import approvals
from ..sheets.opened import NotASheet
from .deps import APPROVES, app_state, context_of
from .hidden import without_money

log = structlog.get_logger()
STATUS: dict[type[Exception], int] = {
    NotFound: 404,
    Conflict: 409,
    DearerNow: 409,
    Invalid: 422,
    MayNot: 403,
    NotASheet: 422,
    NotAllowed: 409,
    OutsideError: 502,
}


_BUSY = "the data is busy for the moment; nothing was changed, try again"
# What the database says of the disk it stands on. All of it passes once the disk is mended: nothing here has to be started anew.
_STORAGE = {
    "SQLITE_FULL": "the disk is full, so nothing can be written and nothing was changed; make room, and it goes on by itself",
    "SQLITE_READONLY": "the disk or the data's file can only be read, so nothing was changed; make it writable, and it goes on by itself",
    "SQLITE_IOERR": "the disk fails, so nothing was changed; look after it soon, and make a backup",
    "SQLITE_CANTOPEN": "the data's file cannot be opened, so nothing was changed; is its disk there, and may it be read?",
}


def problem(status: int, message: str, headers: dict[str, str] | None = None, **more: object) -> JSONResponse:
    """One error shape for all."""
    body = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": message, **more}
    return JSONResponse(body, status, headers, "application/problem+json")


async def _known(request: Request, error: Exception) -> JSONResponse:
    status = next((code for kind, code in STATUS.items() if isinstance(error, kind)), 400)
    message = error.message if isinstance(error, (UseCaseError, OutsideError)) else str(error)
    fields = error.fields if isinstance(error, Invalid) else None
    if getattr(request.state, "seated", None) and not request.state.seated.allowed.may(Permission.SEE_MONEY):
        # What is told of a failure holds no amount either.
        message = str(without_money(message))
        fields = fields and {name: str(without_money(value)) for name, value in fields.items()}
    return problem(status, message) if fields is None else problem(status, message, fields=fields)


async def _above(request: Request, error: Exception) -> JSONResponse:
    """Nothing was done; what was asked for is written down for somebody who may."""
    assert isinstance(error, AboveLimit)
    if APPROVES in request.scope:
        return problem(403, f"this is above your own limit as well: {error.reason}")
    if request.headers.get("content-type", "application/json").partition(";")[0].strip() != "application/json":
        return problem(403, f"{error.message}; somebody who may has to do it")
    body = orjson.loads(await request.body() or b"{}")

    def ask() -> None:
        app = app_state(request)
        with app.db.writing() as s:
            approvals.ask(context_of(request, s), error, request.method, request.scope["path"], body)

    await anyio.to_thread.run_sync(ask)
    return JSONResponse({"message": f"Nothing is done yet: {error.reason}. Somebody who may is asked", "count": 0, "waits": True}, 202)


def add_errors(app: FastAPI) -> None:
    """Map every exception to its status."""

    async def refused(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, StarletteHTTPException)
        answer = problem(error.status_code, str(error.detail))
        answer.headers.update(error.headers or {})
        return answer

    async def unreadable(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, RequestValidationError)
        fields = {".".join(str(part) for part in one["loc"][1:]) or "body": one["msg"] for one in error.errors()}
        return problem(422, "; ".join(f"{name}: {message}" for name, message in list(fields.items())[:5]), fields=fields)

    async def too_large(_: Request, error: Exception) -> JSONResponse:
        # Nothing here is counted beyond 64 bits, so whatever was asked for by such a number is not there.
        return problem(422, "a number in it is larger than any that there is here")

    async def busy(_: Request, error: Exception) -> JSONResponse:
        code = getattr(getattr(error, "orig", None), "sqlite_errorname", "")
        message = next((words for name, words in _STORAGE.items() if code.startswith(name)), _BUSY)
        # A full disk is not filled further by what is written of it.
        log.error("database failed", message=message, error=str(getattr(error, "orig", error))[:300])
        return problem(503 if message == _BUSY else 507, message, headers={"Retry-After": "5"})

    async def broken(_: Request, error: Exception) -> JSONResponse:
        log.exception("request failed", exc_info=error)
        return problem(500, "something broke here and nothing was changed; the log says what it was")

    app.add_exception_handler(AboveLimit, _above)
    for kind in (UseCaseError, OutsideError, NotASheet, NotAllowed):
        app.add_exception_handler(kind, _known)
    app.add_exception_handler(HTTPException, refused)
    app.add_exception_handler(StarletteHTTPException, refused)
    app.add_exception_handler(RequestValidationError, unreadable)
    app.add_exception_handler(OverflowError, too_large)
    app.add_exception_handler(OperationalError, busy)
    app.add_exception_handler(TooLong, busy)
    app.add_exception_handler(Exception, broken)
