"""What is lost on claims of suppliers and of the items of lanes, kept where routing counts risk with it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import timedelta
from fractions import Fraction
from typing import Any

from sqlalchemy import func, select

from ...core.claims import ClaimReason
from ...core.losses import LIKE_HOUSE, LIKE_SUPPLIER, lost_ppm, shrunk
from ...core.states import PurchaseState
from ...data.base import Row
from ...data.bulk import bulk_update, in_chunks
from ...data.claims import Claim
from ...data.lanes import Lane, LanePart
from ...data.orders import PurchaseLine, PurchaseOrder
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from .buyer_side import records

WINDOW = timedelta(days=180)
# What is no fault of the goods or their supplier.
_NOT_THEIRS = (ClaimReason.changed_mind.value,)


def fresh(context: Context) -> dict[type[Row], list[tuple[Any, ...]]]:
    """Losses of lanes and suppliers where they are others than are written: (ppm or None, number) by table. Reads only."""
    claimed, sent = _claimed(context), _sent(context)
    bad, all_sent = sum(claimed.values()), sum(sent.values())
    if not bad or not all_sent:
        return {kind: _moved(context, kind, {}) for kind in (Lane, Supplier)}
    house = Fraction(min(bad, all_sent), all_sent)
    of = dict(context.session.execute(select(Item.id, Item.supplier_id).where(Item.id.in_([*claimed]))).tuples().all())
    totals = _by_supplier(context, sent)
    suppliers: dict[int, tuple[Fraction, Fraction]] = {}
    for number, units in totals.items():
        mine = sum(n for item, n in claimed.items() if of.get(item) == number)
        record = records(context, number).get("")
        recovered = record.chance * record.share if record else Fraction(0)
        suppliers[number] = (shrunk(min(mine, units), units, house, LIKE_HOUSE), recovered)
    items: dict[int, int] = {}
    for item, n in claimed.items():
        if (known := suppliers.get(of.get(item, 0))) is not None:
            units = max(sent.get(item, 0), n)
            items[item] = lost_ppm(shrunk(n, units, known[0], LIKE_SUPPLIER), known[1])
    return {
        Lane: _moved(context, Lane, _by_lane(context, items)),
        Supplier: _moved(context, Supplier, {number: lost_ppm(*found) for number, found in suppliers.items()}),
    }


def save(context: Context, kind: type[Row], rows: Sequence[tuple[Any, ...]]) -> None:
    """Losses, written where routing reads them."""
    bulk_update(context.session, kind, ("claim_ppm",), rows)


def _claimed(context: Context) -> dict[int, int]:
    """Units that were claimed, by item; each unit of a purchase's line once."""
    rows = (
        select(PurchaseLine.item_id, PurchaseLine.id, func.max(Claim.units))
        .join(PurchaseLine, (PurchaseLine.purchase_id == Claim.purchase_id) & (PurchaseLine.order_line_id == Claim.order_line_id))
        .where(Claim.reason.not_in(_NOT_THEIRS), Claim.opened_at > context.now - WINDOW)
        .group_by(PurchaseLine.item_id, PurchaseLine.id)
    )
    out: dict[int, int] = {}
    for item, _, units in context.session.execute(rows).tuples():
        out[item] = out.get(item, 0) + int(units)
    return out


def _sent(context: Context) -> dict[int, int]:
    """Units that suppliers sent, by item."""
    rows = (
        select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity))
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .where(PurchaseOrder.state == PurchaseState.shipped, ~PurchaseLine.refused, PurchaseOrder.made_at > context.now - WINDOW)
        .group_by(PurchaseLine.item_id)
    )
    return {item: int(units) for item, units in context.session.execute(rows).tuples()}


def _by_supplier(context: Context, sent: Mapping[int, int]) -> dict[int, int]:
    out: dict[int, int] = {}
    for chunk in in_chunks(sent):
        for item, supplier in context.session.execute(select(Item.id, Item.supplier_id).where(Item.id.in_(chunk))).tuples():
            out[supplier] = out.get(supplier, 0) + sent[item]
    return out


def _by_lane(context: Context, items: Mapping[int, int]) -> dict[int, int]:
    """The worst of a lane's items."""
    out: dict[int, int] = {}
    for chunk in in_chunks(items):
        rows = select(LanePart.lane_id, LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id)
        for lane, item in context.session.execute(rows.where(LanePart.item_id.in_(chunk), Lane.closed_at.is_(None))).tuples():
            out[lane] = max(out.get(lane, 0), items[item])
    return out


def _moved(context: Context, kind: type[Any], now: Mapping[int, int]) -> list[tuple[Any, ...]]:
    """Those that are another than is written; those that have none any more lose it."""
    was: dict[int, int] = dict(context.session.execute(select(kind.id, kind.claim_ppm).where(kind.claim_ppm.is_not(None))).tuples().all())
    return [(now.get(number), number) for number in {*was, *now} if was.get(number) != now.get(number)]
