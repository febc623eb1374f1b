"""Items of which surely more come broken or wrong than of others of their kind, by the claims of the last months."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from sqlalchemy import func, select

from ...core.claims import PROVEN
from ...core.earning import surely_worse, usual_share
from ...core.states import LaneState, PurchaseState
from ...data.bulk import by_id, in_chunks
from ...data.claims import Claim
from ...data.lanes import Lane, LanePart
from ...data.orders import PurchaseLine, PurchaseOrder
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from ..mapping import bulk_changes
from ..pricing.exchange_rates import HomeWorth

# Claims and purchases of so many days are looked at; of an item that was claimed less often nothing is said.
WINDOW, LEAST = 90, 3


@dataclass(frozen=True)
class WorseItem:
    """bad of count units were claimed; usual: the share of its kind; a_day: what that costs beyond the usual, in the house's money.

    lanes: those that still go by it, of which spared have another lane behind them.
    """

    item: Item
    supplier: Supplier
    bad: int
    count: int
    usual: float
    a_day: int
    since: datetime
    lanes: list[int]
    spared: int


def worse(context: Context) -> list[WorseItem]:
    """Those that any lane still goes by, the dearest first."""
    since = context.now - timedelta(days=WINDOW)
    claimed = _claimed(context, since)
    many = {item for item, (bad, _, _) in claimed.items() if bad >= LEAST}
    if not many:
        return []
    items = by_id(context.session, Item, claimed)
    kinds: dict[str, list[int]] = {}
    for number in claimed:
        kinds.setdefault(items[number].category, []).append(number)
    sent, of_kind = _sent(context, many, since), _sent_of_kinds(context, {items[one].category for one in many}, since)
    lanes, out = _lanes(context, many), []
    for number in sorted(many & lanes.keys()):
        item, (bad, amount, first) = items[number], claimed[number]
        # A claim may be of a purchase made before the window, so what was claimed was surely sent.
        count = max(sent.get(number, 0), bad)
        kind_bad = sum(claimed[one][0] for one in kinds[item.category] if one != number)
        kind_count = max(of_kind.get(item.category, 0) - sent.get(number, 0), kind_bad)
        if surely_worse(np.array([bad]), np.array([count]), kind_bad, kind_count)[0]:
            share = usual_share(kind_bad, kind_count)
            beyond = round(amount * max(1 - share * count / bad, 0) / WINDOW)
            supplier = context.get(Supplier, item.supplier_id, "supplier")
            mine, spared = lanes[number]
            out.append(WorseItem(item, supplier, bad, count, share, beyond, first, mine, spared))
    return sorted(out, key=lambda one: -one.a_day)


def _claimed(context: Context, since: datetime) -> dict[int, tuple[int, int, datetime]]:
    """Units, money (the house's minor units) and the first day of claims of how things were, by item."""
    worth, out = HomeWorth(context), dict[int, tuple[int, int, datetime]]()
    rows = (
        select(PurchaseLine.item_id, Claim.units, Claim.paid, Claim.currency, Claim.opened_at)
        .join(PurchaseLine, (PurchaseLine.purchase_id == Claim.purchase_id) & (PurchaseLine.order_line_id == Claim.order_line_id))
        .where(Claim.reason.in_(PROVEN), Claim.opened_at > since)
    )
    for item, units, paid, currency, at in context.session.execute(rows).tuples():
        had, amount, first = out.get(item, (0, 0, at))
        out[item] = (had + units, amount + worth.of(paid, currency), min(first, at))
    return out


def _sent(context: Context, items: Collection[int], since: datetime) -> dict[int, int]:
    """Units of items that suppliers sent."""
    out: dict[int, int] = {}
    rows = (
        select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity))
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .where(PurchaseOrder.state == PurchaseState.shipped, ~PurchaseLine.refused, PurchaseOrder.made_at > since)
        .group_by(PurchaseLine.item_id)
    )
    for chunk in in_chunks(items):
        out |= {item: int(units) for item, units in context.session.execute(rows.where(PurchaseLine.item_id.in_(chunk))).tuples()}
    return out


def _sent_of_kinds(context: Context, kinds: Collection[str], since: datetime) -> dict[str, int]:
    """Units sent of all items of some categories."""
    rows = (
        select(Item.category, func.sum(PurchaseLine.quantity))
        .join(PurchaseLine, PurchaseLine.item_id == Item.id)
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .where(PurchaseOrder.state == PurchaseState.shipped, ~PurchaseLine.refused, PurchaseOrder.made_at > since, Item.category.in_(kinds))
        .group_by(Item.category)
    )
    return {kind: int(units) for kind, units in context.session.execute(rows).tuples()}


def _lanes(context: Context, items: Collection[int]) -> dict[int, tuple[list[int], int]]:
    """Lanes that may be used and go by each of these items; and how many of them have another behind them."""
    out: dict[int, tuple[list[int], int]] = {}
    usable = (Lane.closed_at.is_(None), Lane.state != LaneState.shut, Lane.is_substitute.is_(False))
    rows = select(LanePart.item_id, Lane.id, Lane.sku_id).join(Lane, Lane.id == LanePart.lane_id).where(*usable)
    for item, lane, sku in context.session.execute(rows.where(LanePart.item_id.in_(items)).order_by(Lane.id)).tuples():
        others = context.session.scalar(select(func.count()).select_from(Lane).where(*usable, Lane.sku_id == sku, Lane.id != lane)) or 0
        mine, spared = out.get(item, ([], 0))
        out[item] = ([*mine, lane], spared + bool(others))
    return out


def shut(context: Context, number: int) -> str:
    """Shut the lanes that go by an item: spares take over, and what has none shows nothing. Can be undone."""
    found = next((one for one in worse(context) if one.item.id == number), None)
    if found is None:
        return "this is done already"
    bulk_changes.change_many(context, found.lanes, "shut", f"{found.bad} of {found.count} came broken or wrong")
    n = len(found.lanes)
    return f"{n} lane{'' if n == 1 else 's'} to {found.item.number} shut"
