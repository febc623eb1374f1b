"""A sign-in that a person agrees to in the browser: where they are sent, and what their consent is worth."""

from __future__ import annotations

import base64
import hashlib
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest

from amber_lane.connectors.described import consent, sign_in
from amber_lane.connectors.described.schema import Description
from amber_lane.connectors.errors import Denied, Malformed, OutsideError, Refused, Unavailable
from amber_lane.services.base.credentials import CredentialStore
from amber_lane.services.partners import description_trials
from amber_lane.services.partners.registry import ConnectorRegistry

HOW = {
    "kind": "oauth_code",
    "authorize_address": "https://their.example/agree?for=us",
    "token_address": "/token",
    "scope": "orders lasting",
}
BACK = "https://desk.example/setup/signed-in"


def described(**more: Any) -> Description:
    return Description.model_validate(
        {"version": 1, "name": "Their", "owner": "supplier", "key": ["client", "secret", "token"], "operations": {}, "sign_in": HOW | more}
    )


def test_a_person_is_sent_with_a_proof_that_only_we_can_complete() -> None:
    address = consent.ask_for(described(), "https://api.their.example", "me:hush", BACK, "sealed", "v" * 50)
    asked = parse_qs(urlsplit(address).query)
    assert urlsplit(address).netloc == "their.example"
    assert asked["for"] == ["us"]
    assert (asked["client_id"], asked["redirect_uri"], asked["state"]) == (["me"], [BACK], ["sealed"])
    assert asked["scope"] == ["orders lasting"]
    proof = base64.urlsafe_b64encode(hashlib.sha256(b"v" * 50).digest()).decode().rstrip("=")
    assert asked["code_challenge"] == [proof]
    assert "hush" not in address
    assert "v" * 50 not in address


@pytest.mark.parametrize(
    ("more", "key"),
    [
        ({"kind": "bearer"}, "me:hush"),
        ({"authorize_address": ""}, "me:hush"),
        ({"authorize_address": "http://their.example/agree"}, "me:hush"),
        ({"authorize_address": "javascript:alert(1)//://"}, "me:hush"),
        ({}, "me"),
        ({}, ""),
    ],
)
def test_nobody_is_sent_anywhere_before_all_of_it_is_said(more: dict[str, str], key: str) -> None:
    with pytest.raises(Refused):
        consent.ask_for(described(**more), "https://api.their.example", key, BACK, "sealed", "verifier")


def exchange(answer: httpx.Response) -> tuple[str, list[httpx.Request]]:
    asked: list[httpx.Request] = []

    def reply(request: httpx.Request) -> httpx.Response:
        asked.append(request)
        return answer

    way = httpx.MockTransport(reply)
    return consent.key_for(described(), "https://api.their.example", "me:hush", "the code", "verifier", BACK, 1, way), asked


def test_a_consent_is_exchanged_for_a_lasting_key() -> None:
    key, (asked,) = exchange(httpx.Response(200, json={"access_token": "a", "token_type": "Bearer", "refresh_token": "last:ing"}))
    assert key == "me:hush:last:ing"
    assert str(asked.url) == "https://api.their.example/token"
    said = parse_qs(asked.content.decode())
    assert said == {"grant_type": ["authorization_code"], "code": ["the code"], "redirect_uri": [BACK], "code_verifier": ["verifier"]}
    assert asked.headers["authorization"] == "Basic " + base64.b64encode(b"me:hush").decode()


@pytest.mark.parametrize(
    ("answer", "failure"),
    [
        (httpx.Response(400, json={"error": "invalid_grant"}), Denied),
        (httpx.Response(401), Denied),
        (httpx.Response(500), Denied),
        (httpx.Response(503), Unavailable),
        (httpx.Response(200, content=b"<html>"), Malformed),
        (httpx.Response(200, json={"access_token": "a", "token_type": "Bearer"}), Refused),
    ],
)
def test_a_consent_that_gives_nothing_is_told_plainly(answer: httpx.Response, failure: type[OutsideError]) -> None:
    with pytest.raises(failure):
        exchange(answer)


def test_a_document_is_fetched_from_where_it_lies() -> None:
    asked: list[str] = []

    def reply(request: httpx.Request) -> httpx.Response:
        asked.append(str(request.url))
        return httpx.Response(200, content=b"openapi: 3.0.0")

    door = ConnectorRegistry(CredentialStore("a secret for tests"), 1, httpx.MockTransport(reply))
    assert description_trials.document_at(door, "https://Their.example/docs/openapi.yaml?v=2") == "openapi: 3.0.0"
    assert asked == ["https://their.example/docs/openapi.yaml?v=2"]


def test_all_that_ask_at_once_go_on_with_one_renewed_token() -> None:
    """A lasting token counts once: the one that comes with its answer takes its place, so only one call may renew it."""
    held, fetched, kept = ["first"], [], []
    begun = threading.Barrier(8)

    def answers(request: httpx.Request) -> httpx.Response:
        if request.url.path != "/token":
            return httpx.Response(200 if request.headers["Authorization"] == f"Bearer t-{held[0]}" else 401, json={})
        sent = parse_qs(request.content.decode())["refresh_token"][0]
        fetched.append(sent)
        time.sleep(0.02)
        if sent != held[0]:
            return httpx.Response(400, json={"error": "invalid_grant"})
        held[0] = f"after-{sent}"
        return httpx.Response(
            200, json={"access_token": f"t-{held[0]}", "token_type": "Bearer", "expires_in": 900, "refresh_token": held[0]}
        )

    client = httpx.Client(base_url="https://api.their.example", transport=httpx.MockTransport(answers))
    client.auth = sign_in.SignedIn(described(), "me:hush:first", client, kept.append)

    def ask(_: int) -> int:
        begun.wait()
        return client.get("/items").status_code

    with ThreadPoolExecutor(8) as many:
        assert list(many.map(ask, range(8))) == [200] * 8
    assert fetched == ["first"] and kept == ["me:hush:after-first"]
