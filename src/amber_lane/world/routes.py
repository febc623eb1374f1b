"""Calls of the world are answered where they come in: it does one thing at a time, and a thread for each costs half as much again."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from inspect import iscoroutinefunction
from typing import Any

from fastapi import APIRouter
from fastapi.routing import APIRoute


class _Direct(APIRoute):
    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        super().__init__(path, endpoint if iscoroutinefunction(endpoint) else _direct(endpoint), **more)


def _direct(endpoint: Callable[..., Any]) -> Callable[..., Any]:
    @wraps(endpoint)
    async def answer(*given: Any, **named: Any) -> Any:
        return endpoint(*given, **named)

    return answer


class Router(APIRouter):
    """A part of the world: under `prefix`, and in the document of its calls unless it says otherwise."""

    def __init__(self, prefix: str = "", in_document: bool = True) -> None:
        super().__init__(prefix=prefix, route_class=_Direct, include_in_schema=in_document)
