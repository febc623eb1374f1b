"""One item looked at closely: what its price is made of in a store, what it keeps to each country, what of ours it is like."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, fields
from datetime import datetime

import numpy as np
from sqlalchemy import select

from ...core import explain as explaining
from ...core import price
from ...core.currency import show
from ...core.explain import PriceStep
from ...core.price import NONE
from ...core.states import ListingState
from ...data.lanes import Lane, LanePart
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.tallies import tally
from ...data.watch import Sighting
from ..base.context import Context
from ..pricing.inputs import Facts
from .search import Finder
from .stability import CostPast
from .work_out import Worked, work_out


@dataclass(frozen=True)
class ToCountry:
    """Sending to one country at the store's price; amounts in the store's money. keeps None: nothing is known of it."""

    country: str
    service: str
    days_low: int
    days_high: int
    ship: int
    keeps: int | None


@dataclass(frozen=True)
class ItemDetail:
    """sentence: why the price is what it is, or why there is none."""

    currency: str
    sentence: str
    profit: int | None
    steps: list[PriceStep]
    countries: list[ToCountry]


def explain(context: Context, finder: Finder, item: Item, store_id: int) -> ItemDetail:
    """Everything that decides about an item in a store. The same solver that ranks the list is asked."""
    with finder.lock:
        goods, _ = finder.look(context, store_id)
        at = np.array([int(goods.ids.searchsorted(item.id))], dtype=np.int64)
    facts = Facts.read(context.session)
    store = facts.stores[store_id]
    made = work_out(context.session, facts, store, goods, at)
    message, known = "", bool(made.known[0])
    steps: list[PriceStep] = []
    if known:
        found = explaining.explain(_terms(made), int(made.priced.price[0]), store.currency)
        message, steps = found.sentence, found.steps
    elif int(made.service[0]) < 0:
        message = f"Nothing is sent from there to {store.country}, where {store.name} sells."
    else:
        message = "No price meets your rules, or the exchange rate from its supplier's money is not entered."
    countries = []
    origin = item.origin_id
    for land in sorted({one.country for one in facts.services if one.origin_id == origin}):
        there = work_out(context.session, facts, store, goods, at, land)
        place = int(there.service[0])
        if place < 0:
            continue
        service = facts.services[place]
        # The price is the store's; only what sending costs is another.
        keeps = int(made.priced.kept.profit[0]) + int(made.terms.landed[0]) - int(there.terms.landed[0]) if known else None
        name = service.name
        countries.append(ToCountry(land, name, int(there.days_low[0]), int(there.days_high[0]), int(there.ship[0]), keeps))
    profit = int(made.priced.kept.profit[0]) if known else None
    return ItemDetail(store.currency, message, profit, steps, countries)


def _terms(made: Worked) -> dict[str, object]:
    """The terms of a single row, as explanations take them."""
    out: dict[str, object] = {}
    for part, kind in ((made.terms, price.Terms), (made.limits, price.Limits)):
        for one in fields(kind):
            value = int(getattr(part, one.name)[0])
            out[one.name] = None if value == NONE else value
    out["endings"] = made.endings.listed(int(made.limits.endings[0]))
    return out | {"goods": int(made.goods[0]), "ship": int(made.ship[0]), "handling": int(made.handling[0]), "rebate": int(made.rebate[0])}


def sentence(detail: ItemDetail, past: CostPast, days: int, currency: str) -> str:
    """What a manager would say of it in a line or two."""
    often = {0: "did not move", 1: "moved once"}.get(past.moves, f"moved {past.moves} times")
    moves = f"its cost {often} in {days} days"
    if past.moves:
        moves += f", never above {show(past.highest, currency)}"
    held = f"; it was in stock on {past.in_stock} of {days} days" if past.in_stock >= 0 else ""
    return f"{detail.sentence} {moves[0].upper()}{moves[1:]}{held}."


def item_counts(context: Context) -> dict[int, int]:
    """How many items each supplier has with us."""
    found: dict[int, int] = {}
    for (supplier, offer), n in tally(context.session, "items").items():
        if offer != "gone":
            found[int(supplier)] = found.get(int(supplier), 0) + n
    return found


def mark_of(text: str) -> str:
    """A short mark of a text, the same for the same text."""
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def ours(context: Context, items: Sequence[Item]) -> dict[int, str]:
    """Our SKU that an item fills, or else the one with its barcode."""
    s, out = context.session, {}
    codes = {item.gtin for item in items if item.gtin}
    by_code: dict[str, str] = dict(s.execute(select(Sku.gtin, Sku.code).where(Sku.gtin.in_(codes))).tuples().all()) if codes else {}
    for item in items:
        if item.gtin in by_code:
            out[item.id] = by_code[item.gtin]
    # Step by step: asked in one go, the database begins at the wrong end.
    parts = select(LanePart.item_id, LanePart.lane_id).where(LanePart.item_id.in_([item.id for item in items]))
    lanes = dict(s.execute(parts.order_by(LanePart.item_id)).tuples().all())
    skus: dict[int, int] = dict(
        s.execute(select(Lane.id, Lane.sku_id).where(Lane.id.in_(lanes.values()), Lane.closed_at.is_(None))).tuples().all()
    )
    codes_of: dict[int, str] = dict(s.execute(select(Sku.id, Sku.code).where(Sku.id.in_(skus.values()))).tuples().all())
    return out | {item: codes_of[skus[lane]] for item, lane in lanes.items() if lane in skus}


def sightings(context: Context, item: int, since: datetime) -> Sequence[Sighting]:
    """What was seen of an item since then, in the order of time."""
    rows = select(Sighting).where(Sighting.item_id == item, Sighting.at >= since)
    return context.session.scalars(rows.order_by(Sighting.at, Sighting.id)).all()


def on_sale_by(context: Context, item: int, most: int = 300) -> list[tuple[Listing, Sku, str, Lane]]:
    """Listings on sale that a lane of the item may fill, with SKU, store and that lane; what sells most first."""
    rows = (
        select(Listing, Sku, Store.name, Lane)
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Store, Store.id == Listing.store_id)
        .join(Lane, Lane.sku_id == Sku.id)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .where(LanePart.item_id == item, Lane.closed_at.is_(None), Listing.state.in_((ListingState.live, ListingState.paused)))
        .where(Lane.store_id.is_(None) | (Lane.store_id == Listing.store_id))
        .order_by(Sku.pace.desc(), Listing.id)
        .limit(most)
    )
    return list(context.session.execute(rows).tuples())
