"""The interface's document: beside what each call answers, how it refuses, and by what its caller is known."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi

PROBLEM = {
    "type": "object",
    "description": "RFC 9457. fields: what is wrong with each field; needs: what is asked for as well (code).",
    "required": ["type", "title", "status", "detail"],
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string"},
        "fields": {"type": "object", "additionalProperties": {"type": "string"}},
        "needs": {"type": "string"},
    },
}
SCHEMES = {
    "person": {
        "type": "apiKey",
        "in": "cookie",
        "name": "amber_lane",
        "description": "By POST /api/v1/session; behind TLS __Host-amber_lane. A change needs the header X-Amber-Lane: 1 too.",
    },
    "key": {
        "type": "http",
        "scheme": "bearer",
        "description": "The key of a program of one's own (alk_…), made under Your sign-in; x-needs says what each call needs.",
    },
    "program": {"type": "http", "scheme": "bearer", "description": "The token of a store's program."},
}
# Calls that nobody need be signed in for.
OPEN = {
    ("get", "/api/health"),
    ("get", "/api/v1/session"),
    ("post", "/api/v1/session"),
    ("post", "/api/v1/session/first"),
    ("post", "/api/v1/session/forgotten"),
    ("post", "/api/v1/session/new-password"),
    ("post", "/api/v1/session/invitation"),
    ("post", "/api/v1/session/invitation/accept"),
    ("post", "/api/v1/hooks/stores/{store}"),
}
TRIED = ("/api/v1/session", "/api/v1/program", "/api/v1/mine")


def describe(app: FastAPI) -> None:
    app.openapi = partial(_document, app)  # type: ignore[method-assign]


def _document(app: FastAPI) -> dict[str, Any]:
    if app.openapi_schema:
        return app.openapi_schema
    made = get_openapi(title=app.title, version=app.version, routes=app.routes)
    schemas = made["components"]["schemas"]
    for name in ("HTTPValidationError", "ValidationError"):
        schemas.pop(name, None)
    schemas["Problem"] = PROBLEM
    made["components"]["securitySchemes"] = SCHEMES
    for path, calls in made["paths"].items():
        for method, call in calls.items():
            if (method, path) not in OPEN:
                call["security"] = [{"program" if path.startswith("/api/v1/program") else "person": []}]
                call["security"] += [{"key": []}] if "x-needs" in call else []
            if path.startswith("/api/v1"):
                call["responses"] |= {str(int(one)): _refusal(one) for one in _refusals(method, path, call)}
    app.openapi_schema = made
    return made


def _refusals(method: str, path: str, call: dict[str, Any]) -> Iterable[HTTPStatus]:
    """How a call may be refused."""
    asks, changes = bool(call.get("parameters")) or "requestBody" in call, method != "get"
    yield HTTPStatus.SERVICE_UNAVAILABLE
    if (method, path) != ("get", "/api/v1/session"):
        yield HTTPStatus.UNAUTHORIZED
        yield HTTPStatus.FORBIDDEN
    if asks:
        yield HTTPStatus.NOT_FOUND
        yield HTTPStatus.UNPROCESSABLE_ENTITY
    if changes or path.startswith("/api/v1/world"):
        yield HTTPStatus.CONFLICT
        yield HTTPStatus.BAD_GATEWAY
        yield HTTPStatus.INSUFFICIENT_STORAGE
    if "requestBody" in call:
        yield HTTPStatus.BAD_REQUEST
        yield HTTPStatus.REQUEST_ENTITY_TOO_LARGE
    if path.startswith(TRIED):
        yield HTTPStatus.TOO_MANY_REQUESTS


def _refusal(status: HTTPStatus) -> dict[str, Any]:
    return {"description": status.phrase, "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}}
