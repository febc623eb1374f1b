"""What each call needs: every route says it where it is made, and whoever may not is told so before anything is done.

A route without `needs` has those of its router: `read` where it only reads, else `write`. They stand in the interface's document as
x-needs. Somebody who is limited to some stores, suppliers or categories may make only the calls that look to it (x-limited).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import Any, NamedTuple, TypeVar

import orjson
from fastapi import APIRouter, HTTPException, Request, params
from fastapi.routing import APIRoute
from starlette._utils import get_route_path
from starlette.responses import Response
from starlette.routing import Match
from starlette.types import Scope

from ..core.permissions import Permission
from .deps import Seated, seated
from .hidden import without_money

F = TypeVar("F", bound=Callable[..., Any])
# Under which all calls stand.
ROOT = "/api/v1"


class Needs(NamedTuple):
    """permissions: all of them are needed; limited: the call looks to what a person is limited to; own: of whoever is signed in."""

    permissions: frozenset[Permission]
    limited: bool = False
    own: bool = False


def needs(*permissions: Permission, limited: bool = False) -> Callable[[F], F]:
    """What a call needs, where it is not what its router says."""

    def mark(call: F) -> F:
        call.needs = Needs(frozenset(permissions), limited)  # type: ignore[attr-defined]
        return call

    return mark


def for_everyone(call: F) -> F:
    """A call that is everybody's who is signed in, and answers each with what is theirs."""
    call.needs = Needs(frozenset(), limited=True, own=True)  # type: ignore[attr-defined]
    return call


class GuardedRouter(APIRouter):
    """A router whose routes all say what they need. read, write: of those that do not say it themselves."""

    def __init__(
        self,
        prefix: str = "",
        *,
        tags: list[str],
        read: Iterable[Permission],
        write: Iterable[Permission],
        limited: bool = False,
        dependencies: Sequence[params.Depends] | None = None,
    ) -> None:
        super().__init__(prefix=prefix, tags=list(tags), route_class=GuardedRoute, dependencies=dependencies)
        self.read, self.write = Needs(frozenset(read), limited), Needs(frozenset(write), limited)

    def add_api_route(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:  # noqa: ANN401 - as FastAPI has it
        methods = {one.upper() for one in more.get("methods") or ("GET",)}
        declared: Needs = getattr(endpoint, "needs", self.read if methods <= {"GET", "HEAD"} else self.write)
        said = {"x-needs": sorted(declared.permissions), "x-limited": declared.limited, "x-own": declared.own}
        super().add_api_route(path, endpoint, **{**more, "openapi_extra": {**(more.get("openapi_extra") or {}), **said}})

    @cached_property
    def words(self) -> frozenset[str]:
        """The first words of its paths."""
        return frozenset(one.path.split("/")[1] for one in self.routes if isinstance(one, APIRoute))

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        """Whether one of its calls is meant. Most of them are ruled out by the first word of the path, a whole router at a time."""
        word = get_route_path(scope).removeprefix(f"{ROOT}/").partition("/")[0]
        return super().matches(scope) if word in self.words else (Match.NONE, {})


class GuardedRoute(APIRoute):
    """A route whose answer holds no money for somebody who may not see any."""

    def get_route_handler(self) -> Callable[[Request], Any]:
        handle = super().get_route_handler()

        async def answer(request: Request) -> Response:
            response: Response = await handle(request)
            here = getattr(request.state, "seated", None)
            if here is None or here.allowed.may(Permission.SEE_MONEY) or response.media_type != "application/json":
                return response
            hidden = orjson.dumps(without_money(orjson.loads(response.body)))
            headers = {name: value for name, value in response.headers.items() if name != "content-length"}
            return Response(hidden, response.status_code, headers, response.media_type, response.background)

        return answer


def needs_of(request: Request) -> Needs:
    """What the call needs that is being made."""
    said = request.scope["route"].openapi_extra or {}
    return Needs(frozenset(Permission(one) for one in said["x-needs"]), said["x-limited"], said["x-own"])


def require(here: Seated, *permissions: Permission) -> None:
    """403 for whoever lacks one of these."""
    if lacks := sorted(set(permissions) - here.allowed.role.permissions):
        raise HTTPException(403, f"this needs somebody who may {lacks[0]}; your role is {here.allowed.role.name}")


def permitted(request: Request) -> None:
    """403 for whoever may not make this call. Who is not signed in is told so by what makes the call's context."""
    if (here := seated(request)) is None:
        return
    asked, role = needs_of(request), here.allowed.role
    if here.lacks:
        raise HTTPException(403, "managers here sign in with a code beside the password; set yours up first")
    if role.own_page:
        raise HTTPException(403, "this is not yours; your purchase orders are on your own page")
    if here.program and asked.own and request.method != "GET":
        raise HTTPException(403, "this is a person's to do, and no program's")
    require(here, *asked.permissions)
    if here.allowed.scope.limited and not asked.limited:
        raise HTTPException(403, "this shows more than the stores, suppliers or categories that you work for")
