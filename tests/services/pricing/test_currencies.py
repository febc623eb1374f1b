"""A supplier that sells some items in another money: each is turned at its own rate, and never guessed without one."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import CatalogueItem
from amber_lane.data.orders import PurchaseLine, PurchaseOrder
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Supplier
from amber_lane.data.source import Item
from amber_lane.services.catalogue import ingest
from amber_lane.services.catalogue.search import Finder
from amber_lane.services.mapping import lanes
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.pricing.frame import load
from amber_lane.services.purchasing import purchase_orders

from ...small import Small


@pytest.fixture
def abroad(small: Small) -> Small:
    """The supplier works in PLN (0.2 a pound); item 1 costs 10.00 EUR (0.85), item 2 10.00 PLN; no cushion."""

    def make(context: Any) -> None:
        supplier = context.get(Supplier, 1, "supplier")
        supplier.currency, supplier.also = "PLN", ["EUR"]
        for number, money in ((1, "EUR"), (2, "PLN"), (3, "SEK")):
            item = context.get(Item, number, "item")
            item.currency, item.cost = money, 1000
        for money, nano in (("PLN", 200_000_000), ("EUR", 850_000_000)):
            context.session.add(Rate(base=money, quote="GBP", day=context.now, nano=nano))
        PolicyChange("house", "", {"currency_cushion": 0}).keep(context)

    small.write(make)
    return small


def goods(small: Small) -> dict[int, int | None]:
    with small.db.reading() as s:
        book = load(small.context(s), [1, 2, 3])
        return {int(sku): int(cost) if known else None for sku, cost, known in zip(book.sku, book.goods, book.counted, strict=True)}


def test_each_item_is_turned_at_the_rate_of_its_own_money(abroad: Small) -> None:
    assert goods(abroad) == {1: 850, 2: 200, 3: None}
    with abroad.db.reading() as s:
        found = Finder().worth(abroad.context(s), 1, [1, 2, 3])
    # Handling 0.30 and shipping 1.00 are in the supplier's own money.
    assert (found[1].landed, found[2].landed, found[3].known) == (850 + 26, 200 + 26, False)


def test_a_kit_of_two_monies_is_the_sum_of_both_and_the_least_price_is_turned_too(abroad: Small) -> None:
    def make(context: Any) -> None:
        context.get(Item, 1, "item").least_price = 3000
        lanes.open_lane(context, 2, [lanes.LaneItem(1, Fraction(2)), lanes.LaneItem(2, Fraction(1))])

    abroad.write(make)
    assert goods(abroad)[2] == 2 * 850 + 200
    with abroad.db.reading() as s:
        book = load(abroad.context(s), [1, 2])
        least = dict(zip(book.sku.tolist(), book.limits.least_price.tolist(), strict=True))
    assert least[1] == 2550 and least[2] == 5100


def test_a_bill_is_planned_in_the_suppliers_money(abroad: Small) -> None:
    abroad.respond()
    abroad.order("A-1", ("S-1", 2, 9000))
    order = abroad.all(select(PurchaseOrder))
    if not order:
        abroad.write(lambda context: purchase_orders.send(context, [1]))
    made = abroad.all(select(PurchaseOrder))[0]
    # 2 x 10.00 EUR at 0.85 / 0.20 a zloty
    assert made.currency == "PLN" and made.goods == 8500
    assert abroad.all(select(PurchaseLine.planned_cost)) == [8500]


def test_only_agreed_monies_come_in(abroad: Small) -> None:
    def bring(money: str) -> Any:
        told = CatalogueItem(f"N-{money}", "New thing", 500, money, 5, "main")
        return abroad.write(lambda context: ingest.bring_in(context, context.get(Supplier, 1, "supplier"), [told]))

    assert bring("EUR")[0] == 1 and bring("PLN")[0] == 1
    fresh, wrong = bring("USD")
    assert fresh == 0 and "USD" in wrong[0][1]
