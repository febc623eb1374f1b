"""OAuth 2 with a person's consent, given in their browser at the partner (RFC 6749, section 4.1), with a proof that whoever comes back
with it is whoever asked for it (RFC 7636)."""

from __future__ import annotations

import base64
import hashlib
from urllib.parse import parse_qsl, urlencode, urlsplit

import httpx
from oauthlib.common import add_params_to_uri
from oauthlib.oauth2 import OAuth2Error, WebApplicationClient

from .. import tls
from ..errors import Denied, Malformed, Refused, UnknownOutcome
from ..http import Caller
from .schema import Description
from .sign_in import parts_of


def challenge(verifier: str) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).decode().rstrip("=")


def _client(description: Description, key: str) -> tuple[str, str]:
    """Our name and secret at the partner. Refused where the key has none, or the description is no such one."""
    if description.sign_in.kind != "oauth_code":
        raise Refused("this partner is not signed in to in the browser")
    names, parts = description.key, parts_of(description, key)
    if len(names) < 3 or not parts[names[0]] or not parts[names[1]]:
        raise Refused("keep the name and the secret first that the partner gave for this application, as name:secret")
    return parts[names[0]], parts[names[1]]


def _whole(address: str, place: str) -> str:
    return place if "://" in place else address.rstrip("/") + place


def ask_for(description: Description, address: str, key: str, back: str, state: str, verifier: str) -> str:
    """Where a person gives their consent. back: where the partner sends them after it."""
    name, _ = _client(description, key)
    how = description.sign_in
    where = _whole(address, how.authorize_address)
    parts = urlsplit(where)
    if not how.authorize_address or parts.scheme not in ("https", "http") or not parts.hostname:
        raise Refused("say at which address of the partner consent is given")
    if parts.scheme != "https" and not tls.on_this_machine(parts.hostname):
        raise Refused("consent is given over https:// alone")
    asked = {"response_type": "code", "client_id": name, "redirect_uri": back, "scope": how.scope, "state": state}
    asked |= {"code_challenge": challenge(verifier), "code_challenge_method": "S256"}
    return str(add_params_to_uri(where, [(word, value) for word, value in asked.items() if value]))


def key_for(  # noqa: PLR0913 - what the exchange is made of
    description: Description,
    address: str,
    key: str,
    code: str,
    verifier: str,
    back: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
) -> str:
    """The whole key, with the lasting token that a consent is worth. Denied where the partner gives none for it."""
    name, secret = _client(description, key)
    client = WebApplicationClient(name)
    body = client.prepare_request_body(code=code, redirect_uri=back, include_client_id=False, code_verifier=verifier)
    call = Caller(description.name, address, {"Accept": "application/json"}, deadline, transport)
    heads = {"Content-Type": "application/x-www-form-urlencoded"}
    try:
        answer = call.send(
            "POST",
            _whole(address, description.sign_in.token_address),
            content=urlencode(parse_qsl(body)).encode(),
            headers=heads,
            auth=httpx.BasicAuth(name, secret),
        )
    except UnknownOutcome as error:
        raise Denied(f"{error.message}; begin the sign-in once more") from error
    except Refused as error:
        raise Denied(f"the partner gives nothing for this consent ({error.message}); begin the sign-in once more") from error
    try:
        found = client.parse_request_body_response(answer.text[:100_000])
    except (OAuth2Error, ValueError) as error:
        raise Malformed("the partner's token cannot be read") from error
    lasting = str(found.get("refresh_token") or "")
    if not lasting:
        raise Refused("the partner gave no lasting token (refresh token); its paper says which scope asks for one")
    return f"{name}:{secret}:{lasting}"
