"""An address of one's own that is told of events: signed, until it is heard, never of what it did not choose."""

from __future__ import annotations

import hashlib
import hmac
import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.core.events import EventGroup
from amber_lane.data.orders import Order
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Link, Webhook
from amber_lane.services.base.errors import Invalid
from amber_lane.services.outbox import webhooks
from amber_lane.services.partners import connections, life_cycle
from amber_lane.services.partners.connections import Join

from ..business import Business

SECRET = "seventeen loud otters"


class Heard:
    """A server that writes down what it is told; it answers what `says` says, in order, and then 204."""

    def __init__(self) -> None:
        self.told: list[tuple[dict[str, str], bytes]] = []
        self.says: list[int] = []
        heard = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["content-length"]))
                heard.told.append(({name.lower(): value for name, value in self.headers.items()}, body))
                self.send_response(heard.says.pop(0) if heard.says else 204)
                self.send_header("location", "/elsewhere")
                self.end_headers()

            def log_message(self, *_: object) -> None: ...

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server.server_port}/hook"

    def events(self) -> list[dict[str, Any]]:
        return [json.loads(body) for _, body in self.told]


@pytest.fixture
def heard() -> Iterator[Heard]:
    one = Heard()
    yield one
    one.server.shutdown()


def join(business: Business, heard: Heard, *events: EventGroup, key: str = SECRET) -> Webhook:
    given = Join("webhook", "post", "Our stock system", heard.address, key, events=events)
    account = connections.ask_account(business.app_state.connectors, given)
    with business.app_state.db.writing() as s:
        return connections.join_partner(business.context(s), business.app_state.connectors, given, account)


def test_what_was_chosen_is_told_signed_and_once_more_until_it_is_heard(business: Business, heard: Heard) -> None:
    with pytest.raises(Invalid, match="16 letters"):
        join(business, heard, EventGroup.cases, key="short")
    with pytest.raises(Invalid, match="choose what"):
        join(business, heard)
    heard.says = [404]
    with pytest.raises(Invalid):
        join(business, heard, EventGroup.orders_new)
    heard.told.clear()
    hook = join(business, heard, EventGroup.orders_new, EventGroup.listings)
    assert [one["event"] for one in heard.events()] == ["hello"]
    code, _ = business.laned(0)
    # It is away, has enough of us, and breaks off so that nobody knows whether it heard.
    heard.says = [503, 429, 500]
    number = business.buy(sku=code, quantity=1)
    for _ in range(8):
        business.app_state.worker.delivery.not_before.clear()
        business.settle()
        business.on(10)
    told = [one for one in heard.events() if one["event"] == "order.came"]
    assert len(told) >= 3 and len({one["id"] for one in told}) == 1
    order = business.one(select(Order).where(Order.number == number))
    assert told[0]["data"]["order"] == number and told[0]["data"]["lines"] == [
        {"sku": code, "title": told[0]["data"]["lines"][0]["title"], "quantity": 1}
    ]
    # Who bought it stays here.
    assert order.buyer not in str(told[0]) and order.mail not in str(told[0])
    for headers, body in heard.told:
        wanted = hmac.new(SECRET.encode(), headers["amber-lane-signed-at"].encode() + b"\n" + body, hashlib.sha256).hexdigest()
        assert headers["amber-lane-signature"] == wanted and headers["idempotency-key"] == json.loads(body)["id"]
    assert {row.state for row in business.all(select(Outbox).where(Outbox.target == f"webhook:{hook.id}"))} == {"done"}
    # What it did not choose it is not told; what it chooses later it is, and what goes wrong with it is seen.
    before = len(heard.told)
    with business.app_state.db.writing() as s:
        business.context(s).log("person.password", "somebody", "a password was changed")
        business.context(s).log("claim.settled", "C-1", "claim C-1 settled")
    business.settle()
    assert len(heard.told) == before
    with business.app_state.db.writing() as s:
        webhooks.choose(business.context(s), hook.id, None, [EventGroup.cases])
    with business.app_state.db.writing() as s:
        business.context(s).log("claim.settled", "C-2", "claim C-2 settled")
    heard.says = [302]
    business.settle()
    assert heard.events()[-1]["message"] == "claim C-2 settled"
    row = business.one(select(Outbox).where(Outbox.target == f"webhook:{hook.id}", Outbox.state != "done"))
    assert row.state == "dead" and "elsewhere" in row.answer
    # Paused, it is told later.
    with business.app_state.db.writing() as s:
        life_cycle.set_paused(business.context(s), "webhook", hook.id, None, True)
    with business.app_state.db.writing() as s:
        business.context(s).log("claim.settled", "C-3", "claim C-3 settled")
    before = len(heard.told)
    business.settle()
    assert len(heard.told) == before and len(business.all(select(Outbox.id).where(Outbox.kind == "event"))) == 3
    assert SECRET not in business.one(select(Link.sealed_key).where(Link.owner == "webhook"))
