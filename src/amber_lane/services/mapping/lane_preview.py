"""What a lane would do for its SKU, worked out as if it stood. It takes no turn to write, so a person who looks holds nobody up."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from sqlalchemy import select

from ...core.price import NONE, Outcome
from ...data.lanes import Lane, LanePart
from ...data.setup import Origin, Supplier
from ..base.context import Context
from ..pricing import draft_lane, packs
from ..pricing.apply import with_sharers
from ..pricing.decide import decide
from ..pricing.frame import load
from ..pricing.lane_columns import SHUT
from . import item_candidates, lanes


@dataclass
class LanePreview:
    """money: landed, price and profit in minor units of `currency`, None where nobody knows. outcome: of the price, or why not."""

    orders: int
    sweep_minutes: int
    packs: str
    outcome: str = "no listing"
    shows: int = 0
    currency: str = ""
    money: dict[str, int | None] = field(default_factory=lambda: dict.fromkeys(("landed", "price", "profit")))


def preview(context: Context, wish: lanes.LaneRequest) -> LanePreview:
    """Invalid and Conflict as opening it would be."""
    asked = lanes.check_request(context, wish)
    orders = lanes.effect_of_opening(context, asked.sku)["orders"]
    minutes = context.get(Supplier, asked.supplier, "supplier").sweep_minutes
    pieces = [(asked.items[part.item], part.units) for part in wish.parts]
    out = LanePreview(orders, minutes, packs.message(pieces, packs.usual_sizes(context.session, [wish.sku]).get(wish.sku, 1)))
    listing = item_candidates.listing_of(context, wish.sku)
    if listing is not None:
        out.currency = listing.currency
        # A replacement is no lane that a listing is priced by.
        lane = None if wish.is_substitute else _draft(context, wish, asked)
        book = load(context, with_sharers(context, {wish.sku} | _sold_by(context, wish)), lane=lane)
        shown, rows = decide(book, counted=False), np.flatnonzero(book.sku == wish.sku)
        if not len(rows):
            out.outcome = "not on sale"
        elif not book.counted[rows[0]]:
            out.outcome, out.shows = "no rate", int(shown.quantity[rows[0]])
        else:
            at = rows[0]
            values = (book.landed[at], shown.priced.price[at], shown.priced.kept.profit[at])
            out.money = {name: None if int(value) == NONE else int(value) for name, value in zip(out.money, values, strict=True)}
            out.outcome, out.shows = Outcome(int(shown.priced.outcome[at])).name, int(shown.quantity[at])
    return out


def _sold_by(context: Context, wish: lanes.LaneRequest) -> set[int]:
    """SKUs that the items of a lane are sold by already: the stock is shared with them."""
    query = select(Lane.sku_id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.closed_at.is_(None))
    return set(context.session.scalars(query.where(LanePart.item_id.in_([part.item for part in wish.parts]))))


def _draft(context: Context, wish: lanes.LaneRequest, asked: lanes.CheckedRequest) -> draft_lane.DraftLane:
    """The lane as the columns that listings are priced by have it."""
    rows = []
    for part in wish.parts:
        item = asked.items[part.item]
        origin = context.get(Origin, item.origin_id or 0, "origin")
        away = origin.id != asked.origin
        rows.append(
            (
                draft_lane.NUMBER,
                wish.sku,
                wish.store or 0,
                item.supplier_id,
                origin.id,
                asked.priority,
                0 if asked.begun else SHUT,
                item.id,
                part.units.numerator,
                part.units.denominator,
                item.cost,
                item.stock,
                ("good", "doubted", "gone").index(item.offer),
                NONE if item.least_price is None else item.least_price,
                origin.handling,
                item.weight_g,
                lanes.cheapest_service(context, origin.id, wish.store) if away else asked.service,
                item.currency,
            )
        )
    pieces = [(part.item, part.units.numerator, part.units.denominator) for part in wish.parts]
    return draft_lane.DraftLane(wish.sku, wish.store or 0, asked.priority, rows, asked.services, pieces)
