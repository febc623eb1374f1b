"""Signed words of new orders: who may say them, for how long, how often, and that they bring new orders and change none."""

from __future__ import annotations

import hashlib
import hmac
import json
from datetime import timedelta
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import select, update

from amber_lane.api.app import make_app
from amber_lane.api.deps import AppState
from amber_lane.connectors.described.load import shipped
from amber_lane.connectors.errors import Denied, Malformed
from amber_lane.connectors.kinds import connect
from amber_lane.data.orders import Order
from amber_lane.data.setup import Store
from amber_lane.jobs.polling import Reader
from amber_lane.jobs.worker import Worker
from amber_lane.services.base.credentials import CredentialStore
from amber_lane.services.partners.registry import ConnectorRegistry
from amber_lane.settings import Settings

from ..small import Small

SAFE = CredentialStore("a secret of a test")


@pytest.fixture
def reader(small: Small, monkeypatch: pytest.MonkeyPatch) -> Reader:
    small.write(lambda context: context.session.execute(update(Store).values(read_orders=True)))
    monkeypatch.setattr(Reader, "opened", lambda *_: connect("store", "own_site", "http://127.0.0.1:9", "a:b", 1))
    return Reader(small.db, small.clock, ConnectorRegistry(SAFE, 1.0))


def order(number: str = "W-1", **more: Any) -> bytes:
    buyer = {"name": "Wren Sorrel", "address_1": "4 Elm", "city": "York", "postcode": "YO1 7HH", "country": "GB"}
    line = {"line_no": 1, "sku": "S-1", "quantity": 1, "unit_price": "9.00"}
    told = {"number": number, "ordered_at": "2026-03-02T10:00:00Z", "currency": "GBP", "state": "open", "lines": [line], "buyer": buyer}
    return json.dumps(told | more).encode()


def signed(small: Small, body: bytes, ago: timedelta = timedelta(), secret: str = "") -> dict[str, str]:
    at = (small.clock.now() - ago).isoformat()
    key = (secret or SAFE.for_use("hook-1")).encode()
    return {"shop-signed-at": at, "shop-signature": hmac.new(key, at.encode() + b"\n" + body, hashlib.sha256).hexdigest()}


def numbers(small: Small) -> list[tuple[str, str, bool]]:
    return [(one.number, one.buyer, one.cancelled_at is not None) for one in small.all(select(Order).order_by(Order.id))]


def test_a_store_says_itself_for_how_long_its_words_count(small: Small, reader: Reader, monkeypatch: pytest.MonkeyPatch) -> None:
    text = shipped()["own-site"].replace("word:\n", "word:\n  tolerance: 60\n")
    short = connect("store", "described", "http://127.0.0.1:9", "a:b", 1, None, {"description": text})
    monkeypatch.setattr(Reader, "opened", lambda *_: short)
    body = order()
    with pytest.raises(Denied, match="too long ago"):
        reader.word(1, signed(small, body, timedelta(minutes=2)), body)
    assert reader.word(1, signed(small, body, timedelta(seconds=30)), body) == 1


def test_a_word_counts_for_five_minutes_and_once(small: Small, reader: Reader) -> None:
    body = order()
    head = signed(small, body, timedelta(minutes=4))
    assert reader.word(1, head, body) == 1 and numbers(small) == [("W-1", "Wren Sorrel", False)]
    with pytest.raises(Denied, match="heard before"):
        reader.word(1, head, body)
    for ago in (timedelta(minutes=6), -timedelta(minutes=6)):
        late = order("W-2")
        with pytest.raises(Denied, match="too long ago"):
            reader.word(1, signed(small, late, ago), late)
    assert len(numbers(small)) == 1


def test_a_word_changes_no_order_that_is_known(small: Small, reader: Reader) -> None:
    body = order()
    reader.word(1, signed(small, body), body)
    for n, again in enumerate((order(state="cancelled"), order(buyer={**json.loads(body)["buyer"], "name": "Somebody else"})), 1):
        assert reader.word(1, signed(small, again, timedelta(seconds=n)), again) == 0
    assert numbers(small) == [("W-1", "Wren Sorrel", False)]


@pytest.mark.parametrize(
    "more",
    [{"number": ""}, {"number": "W\u0000"}, {"number": "W\u202e1"}, {"state": "no such"}, {"ordered_at": "0001-01-01T00:00:00Z"}, {"lines": []},
     {"ordered_at": "9999-12-31T23:59:59Z"}, {"currency": "\u0007"}],
)  # fmt: skip
def test_what_a_word_says_is_looked_at_like_any_sheet(small: Small, reader: Reader, more: dict[str, Any]) -> None:
    body = order(**more)
    with pytest.raises(Malformed):
        reader.word(1, signed(small, body), body)
    assert numbers(small) == []


def test_a_wrong_signature_is_told_as_that_whatever_it_is_made_of(small: Small, reader: Reader, tmp_path: Any) -> None:
    connectors = ConnectorRegistry(SAFE, 1.0)
    house = AppState(
        Settings(data=tmp_path, jobs=False, web=tmp_path),
        small.db,
        small.clock,
        connectors,
        Worker(small.db, small.clock, connectors, tmp_path),
    )
    body = order()
    good = signed(small, body)
    with TestClient(make_app(house)) as client:
        for head in (
            {},
            signed(small, body, secret="another"),
            good | {"shop-signature": "ÿ" * 64},
            good | {"shop-signed-at": "ÿ"},
            good | {"shop-signature": good["shop-signature"].upper()},
        ):
            raw = {name: value.encode("latin-1") for name, value in head.items()}
            answer = client.post("/api/v1/hooks/stores/1", content=body, headers=raw)
            assert answer.status_code == 401 and answer.headers["content-type"] == "application/problem+json"
        assert client.post("/api/v1/hooks/stores/1", content=body, headers=good).json() == {"new": 1}
