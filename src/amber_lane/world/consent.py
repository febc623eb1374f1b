"""Marram's other door: a person lets an application in on a page of theirs, and it gets tokens that run out (OAuth 2 with PKCE)."""

from __future__ import annotations

import base64
import hashlib
import secrets
from html import escape
from urllib.parse import urlencode

from fastapi import Form, HTTPException, Request
from fastapi.responses import HTMLResponse, JSONResponse, RedirectResponse

from .counter import world_of
from .routes import Router
from .state import World

router = Router(in_document=False)
CLIENT = "dusk-dial"


def knows(world: World, authorization: str) -> bool:
    """Whether a call carries the token that was given out last."""
    return authorization.removeprefix("Bearer ") in (world.fact("consent_access") or [])


@router.get("/marram/consent", response_class=HTMLResponse)
def page(request: Request) -> str:
    """Where a person is asked whether they agree."""
    asked = dict(request.query_params)
    if asked.get("client_id") != CLIENT or asked.get("response_type") != "code" or not asked.get("redirect_uri"):
        raise HTTPException(400, "we know no such application")
    hidden = "".join(f'<input type="hidden" name="{escape(name)}" value="{escape(value)}">' for name, value in asked.items())
    return f"""<!doctype html><html lang="en"><meta charset="utf-8"><title>Marram Supply</title>
<h1>Marram Supply</h1><p>Dusk &amp; Dial asks to read our goods and to place orders for you.</p>
<form method="post" action="/marram/consent">{hidden}<button>Let it in</button></form></html>"""


@router.post("/marram/consent")
async def agree(request: Request) -> RedirectResponse:
    asked = {name: str(value) for name, value in (await request.form()).items()}
    world, code = world_of(request), secrets.token_urlsafe(16)
    world.remember(f"consent_{code}", [asked.get("redirect_uri"), asked.get("code_challenge")])
    back = urlencode({"code": code, "state": asked.get("state", "")})
    return RedirectResponse(f"{asked['redirect_uri']}?{back}", 303)


@router.post("/marram/token")
def token(
    request: Request,
    grant_type: str = Form(),
    code: str = Form(""),
    redirect_uri: str = Form(""),
    code_verifier: str = Form(""),
    refresh_token: str = Form(""),
) -> JSONResponse:
    """Tokens for a consent, or for the lasting token of the one before, which counts no longer then."""
    world = world_of(request)
    wanted = "Basic " + base64.b64encode(f"{CLIENT}:{world.key}-marram-app".encode()).decode()
    if request.headers.get("authorization") != wanted:
        return JSONResponse({"error": "invalid_client"}, 401)
    if grant_type == "authorization_code":
        kept = world.fact(f"consent_{code}")
        proof = base64.urlsafe_b64encode(hashlib.sha256(code_verifier.encode()).digest()).decode().rstrip("=")
        good = bool(kept) and kept == [redirect_uri, proof]
        world.remember(f"consent_{code}", None)
    else:
        good = bool(refresh_token) and refresh_token == world.fact("consent_refresh")
    if not good:
        return JSONResponse({"error": "invalid_grant"}, 400)
    access, lasting = secrets.token_urlsafe(16), secrets.token_urlsafe(16)
    # Those of before count until their time is over, as everywhere.
    world.remember("consent_access", [*(world.fact("consent_access") or [])[-20:], access])
    world.remember("consent_refresh", lasting)
    return JSONResponse({"access_token": access, "token_type": "Bearer", "expires_in": 600, "refresh_token": lasting})
