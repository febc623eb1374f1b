"""What a lane would do for its SKU: opened, looked at, and taken back whole."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from ...core.price import NONE, Outcome
from ...data.setup import Supplier
from ...data.shelf import Sku
from ..base.context import Context
from ..pricing import packs
from ..pricing.apply import with_sharers
from ..pricing.decide import decide
from ..pricing.frame import load
from . import item_candidates, lanes
from .landed_cost import parts_of


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
    """Nothing of it is kept: the transaction of the caller is rolled back."""
    row = context.get(Sku, wish.sku, "SKU")
    orders = lanes.effect_of_opening(context, row)["orders"]
    opened = lanes.open_requested(context, wish, respond_now=False)
    minutes = context.get(Supplier, opened.supplier_id, "supplier").sweep_minutes
    parts, items = parts_of(context, [opened])
    pieces = [(items[one.item_id], Fraction(one.units_num, one.units_den)) for one in parts[opened.id]]
    out = LanePreview(orders, minutes, packs.message(pieces, packs.usual_sizes(context.session, [wish.sku]).get(wish.sku, 1)))
    listing = item_candidates.listing_of(context, wish.sku)
    if listing is not None:
        out.currency = listing.currency
        book = load(context, with_sharers(context, {wish.sku}))
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
    context.session.rollback()
    return out
