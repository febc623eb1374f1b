"""What every answer says to the browser, and how large a request may be before anything of it is read."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

import anyio.to_thread
from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from .errors import problem

# Bytes of a request's body: of what is typed, and of files (a little more than the largest file, for what stands around it).
TYPED_MAX, PICTURE_MAX, ARTWORK_MAX, FILE_MAX = 8_000_000, 16_000_000, 61_000_000, 121_000_000
# What nobody who is not signed in may send more than.
STRANGER_MAX = 1_000_000
_POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; font-src 'self'; "
    "connect-src 'self'; object-src 'none'; base-uri 'self'; form-action 'self'; frame-ancestors 'none'"
)
_ALWAYS = {
    "Content-Security-Policy": _POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}


class _TooLarge(Exception):
    """More came than was announced or may be."""


def most_of(path: str) -> int:
    """How many bytes a request to a path may have."""
    if "/sheet" in path or path.endswith("/documents"):
        return FILE_MAX
    if path.endswith("/printing/artwork") or ("/printing/artwork/" in path and path.endswith("/versions")):
        return ARTWORK_MAX
    return PICTURE_MAX if path.endswith("/pictures") else TYPED_MAX


def _always(headers: MutableHeaders, scope: Scope, sealed: bool) -> None:
    for name, value in _ALWAYS.items():
        headers.setdefault(name, value)
    if sealed:
        headers.setdefault("Strict-Transport-Security", "max-age=31536000")
    if "/api/" not in scope["path"]:
        return
    # What a house knows is in no cache, of the browser or between.
    headers.setdefault("Cache-Control", "no-store")
    noted = scope.get("state", {})
    # Of what an answer was made, so that a page asks again when it has changed; without it anything may change it.
    if (tables := noted.get("made_of")) and not noted.get("made_of_more"):
        headers["X-Made-Of"] = " ".join(f"{name}:{n}" for name, n in tables.items())


class Guard:
    """sealed: reached by TLS alone; known: whether a request is of somebody who is signed in (asked only where much is sent)."""

    def __init__(self, app: ASGIApp, sealed: bool, known: Callable[[Scope], bool]) -> None:
        self.app, self.sealed, self.known = app, sealed, known

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        begun, over = False, False
        # Made here, so that what is noted further in is seen here.
        scope.setdefault("state", {})

        async def say(message: Message) -> None:
            nonlocal begun
            if over and not begun:
                # Whatever the application makes of a body that was broken off, it is told as what it is.
                return
            if message["type"] == "http.response.start":
                begun = True
                _always(MutableHeaders(scope=message), scope, self.sealed)
            await send(message)

        headers = Headers(scope=scope)
        length, most = headers.get("content-length", ""), most_of(scope["path"])
        size = int(length) if length.isascii() and length.isdecimal() and len(length) < 15 else None
        large = f"this is more than the {most // 1_000_000} MB that are taken here; send it in parts"
        chunked = size is None and "transfer-encoding" in headers
        if size is not None and size > most:
            await self._no(413, large, scope, receive, say)
            return
        if (chunked or (size or 0) > STRANGER_MAX) and not await anyio.to_thread.run_sync(self.known, scope):
            await self._no(401, "sign in first", scope, receive, say)
            return
        had = 0

        async def hear() -> Message:
            nonlocal had, over
            message = await receive()
            had += len(message.get("body", b""))
            if had > most:
                over = True
                raise _TooLarge
            return message

        with contextlib.suppress(_TooLarge):
            await self.app(scope, hear, say)
        if over and not begun:
            over = False
            await self._no(413, large, scope, receive, say)

    async def _no(self, status: int, message: str, scope: Scope, receive: Receive, send: Send) -> None:
        answer = problem(status, message)
        # What is still on its way is not waited for.
        answer.headers["Connection"] = "close"
        await answer(scope, receive, send)
