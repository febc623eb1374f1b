"""Partners that are spoken to by descriptions alone: with every fault on and a worker that dies, each order is bought once of each."""

from __future__ import annotations

import random
from collections import Counter
from pathlib import Path

import httpx
import pytest
from sqlalchemy import select

from amber_lane.connectors.abilities import Ability
from amber_lane.connectors.protocols import Account
from amber_lane.data.descriptions import Description
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Link, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.alerts import sending_alerts, today
from amber_lane.services.base.abilities import able
from amber_lane.services.base.credentials import CredentialStore
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.mapping import lanes
from amber_lane.services.partners import connections, description_trials, descriptions, partner_terms
from amber_lane.services.partners.connections import Join
from amber_lane.services.partners.registry import ConnectorRegistry
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders

from ..business import Business
from ..killing import check, survive, victim, work
from ..small import Small

TEXTS = {one.stem: one.read_text() for one in (Path(__file__).parents[1] / "connectors" / "descriptions").glob("*.yaml")}
KEYS = {"fern": "practice-fernmoor", "marram": "practice-marram", "cinder": "dusk-dial:practice-cinder"}
DOORS = ConnectorRegistry(CredentialStore("a secret for tests"), 0.5)


def connect(business: Business, name: str, text: str = "") -> int:
    """A newcomer of the practice world, connected by its description. Returns the supplier's number."""
    text = text or TEXTS[name]
    registry = business.app_state.connectors
    with business.app_state.db.writing() as s:
        number = descriptions.start(business.context(s), "", name, text).id
    join = Join("supplier", "described", "", f"{business.world.address}/{name}", KEYS[name], description=number)
    account = connections.ask_account(registry, join, text)
    with business.app_state.db.writing() as s:
        context = business.context(s)
        row = connections.join_partner(context, registry, join, account)
        if not descriptions.tells_terms(text):
            partner_terms.write_one_origin(context, row, 195, 70, 2)
        made: int = row.id
    business.app_state.reader.catalogue(made)
    return made


def test_each_order_is_bought_once_through_descriptions_alone_with_every_fault_on_and_a_worker_that_dies(business: Business) -> None:
    world, luck = business.world, random.Random(5)
    with business.app_state.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.context(s))
    suppliers = {connect(business, name): name for name in TEXTS}
    # What they have goes through them: a few SKUs each, and nobody else for these.
    sold: list[str] = []
    with business.app_state.db.writing() as s:
        context = business.context(s)
        live = s.execute(select(Sku, Listing).join(Listing, Listing.sku_id == Sku.id).where(Sku.gtin != "", Listing.state == "live")).all()
        for sku, _ in live:
            number = list(suppliers)[len(sold) % 3]
            item = s.scalars(select(Item).where(Item.supplier_id == number, Item.gtin == sku.gtin, Item.stock > 20)).first()
            if item is None or len(sold) == 18:
                continue
            for lane in s.scalars(select(Lane).where(Lane.sku_id == sku.id, Lane.closed_at.is_(None))):
                lanes.close_lane(context, lane.id, None)
            lanes.open_lane(context, sku.id, [lanes.LaneItem(item.id, lanes.Fraction(1))])
            sold.append(sku.code)
    business.settle(2)
    # What does not pay through them is not on sale.
    sold = [sku for sku in sold if world.shown(sku)[-1]["state"] == "live"]
    assert len(sold) >= 5
    for service in (*suppliers.values(), "shop", "post"):
        for dial, value in (("errors", 0.12), ("lost_answer", 0.1), ("malformed", 0.08)):
            world.dial(service, dial, value)
    numbers = []
    for n in range(12):
        offered = [sku for sku in sold if world.shown(sku)[-1]["state"] == "live" and world.shown(sku)[-1]["quantity"] > 0]
        numbers.append(world.post("buy", sku=offered[n % len(offered)], quantity=1, country="GB")["number"])
        work(business)
        business.on(60 * 14)
        if n % 2:
            victim(business, luck.randint(1, 16))
            survive(business)
        business.app_state.worker.once()
    world.calm()
    for _ in range(60):
        business.round(60)
        busy = business.all(select(Outbox.id).where(Outbox.state.in_(("waiting", "claimed", "unknown"))))
        if not busy and not {line.state for line in business.all(select(OrderLine))} & {"new", "ready", "bought"}:
            break
    check(business)
    mine = {row.reference: suppliers[row.supplier_id] for row in business.all(select(PurchaseOrder)) if row.supplier_id in suppliers}
    there = Counter((one["reference"], one["supplier"]) for one in world.record()["purchases"] if one["reference"] in mine)
    assert set(there.values()) == {1} and {name for _, name in there} == set(TEXTS), there
    lines = business.all(select(OrderLine))
    assert len(lines) == len(numbers)
    done = [line for line in lines if line.state in ("with_supplier", "on_the_road", "arrived")]
    assert len(done) >= 8 and all(line.state in ("held", "refused") for line in lines if line not in done), Counter(x.state for x in lines)
    for number in suppliers:
        counts = business.app_state.reader.sweep(number)
        assert business.one(select(Link).where(Link.owner == "supplier", Link.owner_id == number)).state == "good", counts


def only_through(business: Business, supplier: int) -> str:
    """A SKU that is bought from a supplier and from nobody else."""
    with business.app_state.db.writing() as s:
        context = business.context(s)
        rows = s.execute(
            select(Sku, Item, Listing.shown_price)
            .join(Item, Item.gtin == Sku.gtin)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(Item.supplier_id == supplier, Item.stock > 20, Sku.gtin != "", Listing.state == "live")
        )
        # The one that pays best through it, so that the order is not held, whatever the world has come to.
        sku, item, _ = max(rows.tuples(), key=lambda one: (one[2] or 0) - one[1].cost)
        for lane in s.scalars(select(Lane).where(Lane.sku_id == sku.id, Lane.closed_at.is_(None))):
            lanes.close_lane(context, lane.id, None)
        lanes.open_lane(context, sku.id, [lanes.LaneItem(item.id, lanes.Fraction(1))])
        code: str = sku.code
    business.settle(2)
    return code


@pytest.mark.parametrize("said", ["arrived", "again"])
def test_where_nobody_can_be_asked_a_person_says_whether_it_arrived_and_nothing_is_sent_before(business: Business, said: str) -> None:
    data, _ = descriptions.checked(TEXTS["fern"])
    del data["operations"]["purchases"]
    data["cannot_find"] = ["buy"]
    supplier = connect(business, "fern", descriptions.text_of(data))
    code, world = only_through(business, supplier), business.world
    number = business.buy(sku=code, quantity=1, country="GB")
    order = business.one(select(Order).where(Order.number == number))
    world.dial("fern", "lost_answer", said == "arrived")
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), [order.id])
    (line,) = business.all(select(OrderLine).where(OrderLine.order_id == order.id))
    assert line.state == "bought", (line.state, line.reason)
    delivery = business.app_state.worker.delivery
    delivery.settle = 0.0
    if said == "again":
        # The call is cut off before it arrives, and nobody here knows.
        def cut(*_: object, **__: object) -> None:
            raise httpx.ReadTimeout("cut")

        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(httpx.Client, "stream", cut)
            business.settle(1)
    for _ in range(4):
        business.on(30)
        business.settle(1)
    world.calm()
    for _ in range(3):
        business.on(120)
        business.settle(1)
        business.app_state.reader.answers(supplier)
    reference = business.one(select(PurchaseOrder).where(PurchaseOrder.order_id == order.id)).reference
    mine = lambda: [one for one in world.record()["purchases"] if one["reference"] == reference]  # noqa: E731
    assert len(mine()) == (said == "arrived")
    with business.app_state.db.writing() as s:
        context = business.context(s)
        (alert,) = [one for one in today.open_alerts(context) if one.kind == "Unsure"]
        (sending_alerts.arrived if said == "arrived" else sending_alerts.retry)(context, alert.key)
    business.settle(2)
    assert len(mine()) == 1 and business.one(select(PurchaseOrder).where(PurchaseOrder.order_id == order.id)).state in ("sent", "accepted")
    assert not business.all(select(Outbox).where(Outbox.state.in_(("waiting", "claimed", "unknown", "dead"))))


def joined(small: Small, text: str = "") -> tuple[int, int]:
    """A supplier by a description that has no outside: its description's number, and its own."""

    def do(context) -> tuple[int, int]:
        number = descriptions.start(context, "", "Fern", text or TEXTS["fern"]).id
        join = Join("supplier", "described", "", "https://fern.example/api", "k", description=number)
        row = connections.join_partner(context, DOORS, join, Account("Fernmoor", "GB", "GBP", [], number="FM-1"))
        return number, row.id

    return small.write(do)


def test_a_partner_goes_on_with_its_version_until_another_is_switched_on_and_the_old_one_comes_back(small: Small) -> None:
    number, supplier = joined(small)

    def now(context) -> tuple[str, bool]:
        link = context.session.scalars(select(Link).where(Link.owner == "supplier", Link.owner_id == supplier)).one()
        can = able(context, context.session.get(Supplier, supplier), Ability.recalls)
        return next(one.text for one in descriptions.versions_of(context, number) if one.id == link.description_version_id), can

    text, can = small.write(now)
    assert can and text == TEXTS["fern"]
    data, _ = descriptions.checked(text)
    del data["operations"]["recall"]
    less = descriptions.text_of(data)
    small.write(lambda context: descriptions.save(context, number, None, less))
    assert small.write(now) == (text, True)
    places = [one.place for one in small.write(lambda context: descriptions.since(context, number, 1))]
    assert places and all(one.startswith("operations.recall") for one in places)
    small.write(lambda context: descriptions.switch(context, number, "supplier", supplier))
    assert small.write(now) == (less, False)
    with pytest.raises(Conflict, match="already"):
        small.write(lambda context: descriptions.switch(context, number, "supplier", supplier))
    small.write(lambda context: undo.undo(context, undo.last_undoable(context).id))
    assert small.write(now) == (text, True)
    with pytest.raises(Conflict, match="spoken to by it"):
        small.write(lambda context: descriptions.remove(context, number))


def test_what_is_not_finished_is_kept_and_cannot_be_used_and_no_key_is_ever_in_it(small: Small) -> None:
    number = small.write(lambda context: descriptions.start(context, "supplier", "Half").id)
    small.write(lambda context: descriptions.set_trial(context, DOORS.credentials, number, "https://half.example/api/", "hush"))
    for text in ("operations: {offers", "name: x", "operations: {offers: {call: {path: /a}}}\nowner: supplier\nname: Half"):
        small.write(lambda context, text=text: descriptions.save(context, number, None, text))
        row = small.write(lambda context: context.get(Description, number, "description"))
        assert row.text == text and "hush" not in row.text + row.sealed_key and row.address == "https://half.example/api"
        with pytest.raises(Invalid):
            small.write(lambda context: descriptions.keep(context, number))
    with pytest.raises(Conflict, match="another name"):
        small.write(lambda context: descriptions.start(context, "store", " half "))
    with pytest.raises(Invalid, match="of a supplier"):
        small.write(lambda context: descriptions.save(context, number, None, "owner: store\nname: x\noperations: {}"))
    with pytest.raises(Conflict, match="while you had it open"):
        small.write(lambda context: descriptions.save(context, number, 1, "name: y"))
    small.write(lambda context: descriptions.remove(context, number))
    assert small.write(lambda context: descriptions.all_of(context)) == []


def test_a_certificate_is_of_what_was_tried_and_of_nothing_else(small: Small) -> None:
    number, _ = joined(small)
    small.write(lambda context: descriptions.set_trial(context, DOORS.credentials, number, "http://127.0.0.1:9/fern", "k"))
    trial = small.write(lambda context: description_trials.trial_of(context, DOORS, number))
    certificate = description_trials.looked_through(trial, DOORS, description_trials.Allowed())
    small.write(lambda context: description_trials.keep_certificate(context, number, certificate))
    kept = small.write(lambda context: context.get(Description, number, "description"))
    assert [one["outcome"] for one in kept.certificate["checks"]] == ["fails"] and "0 of 1 hold, 1 do not" in description_trials.summary(
        kept.certificate["checks"]
    )
    assert "DOES NOT HOLD" in description_trials.certificate_text(kept)
    version = small.write(lambda context: descriptions.keep(context, number))
    assert version.certificate["checksum"] == version.checksum
    small.write(lambda context: descriptions.save(context, number, None, TEXTS["fern"].replace("/v2/who", "/v3/who")))
    assert small.write(lambda context: descriptions.keep(context, number)).certificate is None


def test_the_same_partner_is_not_connected_twice_by_a_description(small: Small) -> None:
    number, _ = joined(small)
    for kind, address in (("described", "https://fern.example/api"), ("wholesale_api", "https://fern.example/other")):
        join = Join("supplier", kind, "", address, "k", description=number)
        with pytest.raises(Conflict, match="already connected"):
            small.write(
                lambda context, join=join: connections.join_partner(context, DOORS, join, Account("F", "GB", "GBP", [], number="FM-1"))
            )
    other = Join("supplier", "wholesale_api", "", "https://elsewhere.example", "k")
    small.write(lambda context: connections.join_partner(context, DOORS, other, Account("Else", "GB", "GBP", [], number="FM-1")))
