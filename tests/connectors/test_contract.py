"""One contract for all connectors, against the practice world over HTTP, with its faults on."""

from __future__ import annotations

import json
from datetime import UTC, datetime

import httpx
import pytest

from amber_lane.connectors.errors import Denied, Malformed, OutsideError, RateLimited, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.protocols import Address, ListingChange, Mail, Purchase, PurchaseLine, Tracking

PARTNERS = [
    ("store", "own_site", "shop", "dusk-dial:practice-shop"),
    ("supplier", "wholesale_api", "wholesale", "practice-northlight"),
    ("carrier", "post_api", "post", "practice-swiftwing"),
]
BUYER = Address("Wren Sorrel", "4 Lantern Row", "Whitby", "YO21 3PR", "GB")


@pytest.fixture
def calm(world):
    world.calm()
    yield world
    world.calm()


def link(world, owner, kind, service, key, deadline=0.5):
    return connect(owner, kind, f"{world.address}/{service}/api", key, deadline)


@pytest.mark.parametrize("partner", PARTNERS, ids=lambda p: p[1])
def test_every_partner_answers_and_every_failure_has_its_name(calm, partner):
    service = partner[2]
    good = link(calm, *partner)
    assert good.account().may
    with pytest.raises(Denied):
        link(calm, *partner[:3], "wrong:key").account()
    with pytest.raises(Unavailable, match="cannot be reached"):
        connect(*partner[:2], "http://127.0.0.1:9/api", partner[3], 0.5).account()
    with pytest.raises(Refused, match="address"):
        connect(*partner[:2], "ftp://somewhere", partner[3], 0.5)
    for dial, value, failure in (("errors", 1, Unavailable), ("malformed", 1, Malformed), ("lost_answer", 1, Unavailable)):
        calm.dial(service, dial, value)
        with pytest.raises(failure):
            good.account()
        calm.dial(service, dial, 0)
    calm.dial(service, "rate_limit", 1)
    with pytest.raises(RateLimited) as told:
        for _ in range(3):
            good.account()
    assert told.value.wait > 0


def test_a_lost_purchase_is_unknown_and_can_be_asked_for(calm):
    supplier = link(calm, *PARTNERS[1])
    item = next(iter(supplier.catalogue()))[0]
    wish = Purchase("T-1", "leeds", "tracked48", BUYER, [PurchaseLine(1, item.number, 1)])
    calm.dial("wholesale", "lost_answer", 1)
    with pytest.raises(UnknownOutcome):
        supplier.buy(wish)
    calm.dial("wholesale", "lost_answer", 0)
    assert [one.reference for one in supplier.find_purchases(["T-1", "T-2"])] == ["T-1"]
    with pytest.raises(Refused, match="does not go"):
        supplier.buy(Purchase("T-3", "leeds", "tracked48", Address("A", "1", "Oslo", "0150", "NO"), wish.lines))
    assert {one.state for one in supplier.find_purchases(["T-1"])} == {"received"}


def test_the_store_takes_changes_and_numbers_and_can_be_asked(calm):
    store = link(calm, *PARTNERS[0])
    one = next(iter(store.listings()))[0]
    change = ListingChange(one.sku, one.price + 100, "GBP", 3, "live")
    assert not store.find_change(change, "k-1")
    store.change_listing(change, "k-1")
    assert store.find_change(change, "k-1")
    with pytest.raises(Refused, match="no listing"):
        store.change_listing(ListingChange("NO-SUCH", 100, "GBP", 1, "live"), "k-2")
    number = calm.post("buy", sku=one.sku, quantity=1)["number"]
    page = store.orders("0")
    order = next(o for o in page.orders if o.number == number)
    assert order.lines[0].unit_price == one.price + 100 and order.promised_by
    store.fulfil(number, Tracking("SW000012349GB", "Swiftwing Post"), "f-1")
    assert store.find_fulfilment(number, "f-1") and not store.find_fulfilment(number, "f-2")
    with pytest.raises(Refused, match="carrier"):
        store.fulfil(number, Tracking("SW000012349GB", "Nobody"), "f-3")


def test_mail_goes_once_and_can_be_asked_for(calm):
    address = f"smtp://127.0.0.1:{calm.mail_port}|{calm.address}/mail/api"
    mailbox = connect("mailbox", "smtp", address, "", 2)
    mailbox.send(Mail("m-1", "Shop <a@b.example>", "wren@post.example", "Grüße", "Line\n"))
    assert mailbox.find_mail("m-1") and not mailbox.find_mail("m-2")
    with pytest.raises(Unavailable):
        connect("mailbox", "smtp", "smtp://127.0.0.1:9", "", 1).send(Mail("m", "a@b.example", "c@d.example", "s", "b"))


def nonsense(body: object, status: int = 200):
    """A partner that answers the same nonsense to everything."""
    return httpx.MockTransport(lambda request: httpx.Response(status, text=body if isinstance(body, str) else json.dumps(body)))


@pytest.mark.parametrize(
    ("body", "failure"),
    [("<html>", Malformed), ({"as_of": "2026-03-12", "pages": 1, "offers": []}, Malformed), ({"pages": 1}, Malformed), ([], Malformed)],
)
def test_answers_that_are_wrong_are_told(body, failure):
    with pytest.raises(failure):
        connect("supplier", "wholesale_api", "http://x", "k", 1, nonsense(body)).sweep_page(1)


def test_rows_that_are_wrong_stop_nobody_else():
    rows = [
        {"number": "A", "cost": "1.00", "currency": "GBP", "stock": 1},
        {"number": "B", "cost": "NaN", "currency": "GBP", "stock": 1},
        {"number": "C", "cost": "1.00", "currency": "ZZZ", "stock": 1},
        {"number": "D", "currency": "GBP", "stock": 1},
        {"number": "E", "cost": "1e9", "currency": "GBP", "stock": 1},
    ]
    page = connect(
        "supplier", "wholesale_api", "http://x", "k", 1, nonsense({"as_of": datetime.now(UTC).isoformat(), "pages": 1, "offers": rows})
    ).sweep_page(1)
    assert [one.number for one in page.seen] == ["A"] and len(page.bad) == 4
    orders = [{"number": "1", "ordered_at": "2026-03-12T09:00:00Z", "currency": "GBP", "state": "open", "lines": [], "buyer": {}}]
    store = connect("store", "own_site", "http://x", "a:b", 1, nonsense({"orders": orders, "cursor": 4, "more": False}))
    assert store.orders("").unreadable and store.orders("").cursor == "4"


def test_a_word_without_the_right_signature_is_not_read():
    store = connect("store", "own_site", "http://x", "a:b", 1, nonsense({}))
    with pytest.raises(OutsideError, match="signed"):
        store.read_word({"shop-signed-at": "now", "shop-signature": "00"}, b"{}", "secret")
