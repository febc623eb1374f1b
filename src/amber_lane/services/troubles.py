"""Everything that can wait for a person: found in the tables, with what it puts at risk and its best next step."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import String, case, cast, func, literal, select

from ..core.money import PPM, half_up, show
from ..core.price import SetBy
from ..core.risk import REFUND_COST, oversell_a_day, waiting_order
from ..data.lanes import Lane, LanePart
from ..data.orders import Hold, Order, OrderLine, Plan, PurchaseOrder
from ..data.outbox import Outbox
from ..data.setup import Link, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.transit import Parcel, ParcelLine
from ..data.watch import Response, Sighting, Sweep
from . import lanes
from .desk import Desk
from .setup import OWNERS
from .transit import trouble_of


@dataclass(frozen=True)
class Step:
    """The best next step: `act` is done by the server, or `go` opens a view."""

    label: str
    act: bool = False
    go: str = ""


@dataclass(frozen=True)
class Trouble:
    """One thing that waits. at_risk in minor units of the house currency, lost per day or once."""

    key: str
    station: str
    kind: str
    told: str
    why: str
    since: datetime
    step: Step
    at_risk: int = 0
    per_day: bool = False
    tone: str = "waits"
    count: int = 1
    more: dict[str, Any] = field(default_factory=dict)


def _oversell(desk: Desk) -> Iterator[Trouble]:
    """On sale in the store although we know it to be empty: the store has not taken our pause for a minute."""
    late = desk.now - timedelta(minutes=1)
    rows = desk.s.execute(
        select(Listing, Sku, func.min(Outbox.made_at))
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Outbox, Outbox.subject == literal("listing:") + cast(Listing.id, String))
        .where(
            Listing.state == "paused",
            Listing.shown_state == "live",
            Listing.shown_quantity > 0,
            Outbox.state.in_(("waiting", "unknown", "dead")),
            Outbox.made_at < late,
        )
        .group_by(Listing.id, Sku.id)
    ).all()
    for listing, sku, since in rows:
        yield Trouble(
            f"oversell:{listing.id}",
            "watch",
            "Oversell",
            f"{sku.title} is on sale, its supplier has none",
            "the store has not taken the pause yet",
            since,
            Step("Send the pause again", act=True),
            oversell_a_day(sku.pace, listing.profit or 0),
            True,
            "loss",
        )


def _held_orders(desk: Desk) -> Iterator[Trouble]:
    held = select(OrderLine.order_id).where(OrderLine.state == "held")
    rows = desk.s.execute(
        select(Hold, Order, Plan)
        .join(Order, Order.id == Hold.order_id)
        .outerjoin(Plan, Plan.order_id == Order.id)
        .where(Hold.ended.is_(None), Order.id.in_(held))
    ).all()
    for hold, order, plan in rows:
        profit = plan.profit if plan else 0
        steps = {
            "look_over": Step("Let it go", act=True),
            "too_late": Step("Send although late", act=True),
            "address": Step("Mend the address", go=f"/orders?state=held&row={order.id}"),
        }
        loses = hold.limit == "least_profit" and profit < 0
        yield Trouble(
            f"hold:{order.id}",
            "orders",
            "Loss" if loses else "Held",
            f"Order {order.number}: {hold.told[0].lower()}{hold.told[1:]}",
            f"{order.buyer}, {order.country}",
            hold.since,
            steps.get(hold.limit, Step("See the ways on", go=f"/orders?state=held&row={order.id}")),
            -profit if loses else _waits(desk, profit, hold.since),
            False,
            "loss" if loses else "waits",
        )


def _waits(desk: Desk, profit: int, since: datetime) -> int:
    return waiting_order(profit, int((desk.now - since).total_seconds() // 3600))


def _refused_orders(desk: Desk) -> Iterator[Trouble]:
    rows = desk.s.execute(
        select(Order, OrderLine).join(OrderLine, OrderLine.order_id == Order.id).where(OrderLine.state == "refused")
    ).all()
    seen: set[int] = set()
    for order, line in rows:
        if order.id not in seen:
            seen.add(order.id)
            yield Trouble(
                f"refused:{order.id}",
                "orders",
                "Refused",
                f"Order {order.number}: {line.title or line.sku_code} was refused",
                line.why,
                order.came_at,
                Step("See the ways on", go=f"/orders?state=refused&row={order.id}"),
                _waits(desk, line.kept, order.came_at),
            )


def _unmapped_orders(desk: Desk) -> Iterator[Trouble]:
    rows = desk.s.execute(
        select(
            OrderLine.sku_code,
            func.max(OrderLine.title),
            func.count(func.distinct(OrderLine.order_id)),
            func.sum(OrderLine.kept),
            func.min(Order.came_at),
            func.max(OrderLine.sku_id),
        )
        .join(Order, Order.id == OrderLine.order_id)
        .where(OrderLine.state == "needs_lane")
        .group_by(OrderLine.sku_code)
    ).all()
    for code, title, n, kept, since, sku_id in rows:
        known = sku_id is not None
        yield Trouble(
            f"lane:{code}",
            "lanes",
            "Unmapped",
            f"{n} order{'s' if n > 1 else ''} wait{'' if n > 1 else 's'} on {title or code}",
            "its SKU has no lane" if known else f"no listing has the SKU {code}",
            since,
            Step("Choose its item", go=f"/lanes?sku={sku_id}") if known else Step("See the orders", go="/orders?state=needs_lane"),
            _waits(desk, int(kept or 0) // 3, since),
        )


def _unmapped_listings(desk: Desk) -> Iterator[Trouble]:
    rows = [(sku, n) for sku, n in lanes.unmapped(desk) if not n]
    if rows:
        yield Trouble(
            "unmapped",
            "lanes",
            "Unmapped",
            f"{len(rows)} listing{'s' if len(rows) > 1 else ''} on sale without a lane",
            "their price and stock follow nobody",
            desk.now,
            Step(f"Settle {len(rows)}", go="/lanes"),
            half_up(sum(sku.pace for sku, _ in rows) * REFUND_COST, PPM),
            True,
            count=len(rows),
        )


def _sweeps(desk: Desk) -> Iterator[Trouble]:
    newest = select(func.max(Sweep.id)).where(Sweep.state != "running").group_by(Sweep.supplier_id)
    for sweep, supplier in desk.s.execute(
        select(Sweep, Supplier).join(Supplier, Supplier.id == Sweep.supplier_id).where(Sweep.id.in_(newest))
    ):
        pace = _pace_at_stake(desk, supplier.id)
        if sweep.state == "held":
            yield Trouble(
                f"held:{sweep.id}",
                "watch",
                "Held feed",
                f"{supplier.name}: {sweep.told}",
                "nothing of it is used until you say so",
                sweep.started,
                Step("Keep last good stock", act=True),
                pace,
                True,
                "loss",
            )
        elif sweep.state in ("stale", "failed"):
            since = supplier.good_sweep_at or sweep.started
            if desk.now - since > timedelta(minutes=4 * supplier.sweep_minutes):
                yield Trouble(
                    f"stale:{supplier.id}",
                    "watch",
                    "Old feed",
                    f"{supplier.name}: no good sweep since {since:%H:%M}",
                    sweep.told,
                    since,
                    Step("Sweep now", act=True),
                    pace,
                    True,
                    "loss",
                )


def _pace_at_stake(desk: Desk, supplier: int) -> int:
    """What a day of sales on this supplier's lanes would lose if all of it had to be refunded."""
    skus = select(Lane.sku_id).where(Lane.supplier_id == supplier, Lane.until.is_(None))
    rows = desk.s.execute(
        select(Sku.pace, Listing.profit).join(Listing, Listing.sku_id == Sku.id).where(Sku.id.in_(skus), Listing.state == "live")
    )
    return sum(oversell_a_day(pace, profit or 0) for pace, profit in rows)


def _doubts(desk: Desk) -> Iterator[Trouble]:
    used = select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.until.is_(None))
    items = list(desk.s.scalars(select(Item).where(Item.offer == "doubted", Item.id.in_(used)).order_by(Item.id).limit(200)))
    since = select(Sighting.item_id, func.max(Sighting.at)).where(
        Sighting.item_id.in_([i.id for i in items]), Sighting.verdict == "doubted"
    )
    seen = dict(desk.s.execute(since.group_by(Sighting.item_id)).tuples().all())
    for item in items:
        yield Trouble(
            f"doubt:{item.id}",
            "watch",
            "Doubted",
            f"{item.title}: cost {show(item.cost, item.currency)} → {show(item.doubt_cost, item.currency)}",
            "too large a move to believe at once; the last good cost stands",
            seen.get(item.id) or desk.now,
            Step("Keep the last good cost", act=True),
            max(item.doubt_cost - item.cost, 0),
        )


def _waiting_listings(desk: Desk) -> Iterator[Trouble]:
    newest = select(func.max(Response.id)).where(Response.state == "waits").group_by(Response.listing_id)
    rows = desk.s.execute(
        select(
            Response.set_by,
            Response.outcome,
            func.count(),
            func.min(Response.at),
            func.sum(case((Listing.profit < 0, -Listing.profit), else_=0) * Sku.pace),
        )
        .join(Listing, Listing.id == Response.listing_id)
        .join(Sku, Sku.id == Listing.sku_id)
        .where(Response.id.in_(newest), Listing.state != "ended")
        .group_by(Response.set_by, Response.outcome)
    ).all()
    names = {SetBy.ceiling: "Ceiling", SetBy.step: "Step"}
    for set_by, outcome, n, since, loss in rows:
        limit = {SetBy.ceiling: "need more than their price ceiling", SetBy.step: "need a larger step than you allow"}.get(
            set_by, "have no price that meets your limits"
        )
        if outcome == 2:
            limit = "would lose money at their price ceiling" if set_by == SetBy.ceiling else "would lose money in one step"
        limit = limit if n > 1 else limit.replace("need ", "needs ").replace("have ", "has ").replace("their", "its")
        yield Trouble(
            f"waits:{set_by}:{outcome}",
            "watch",
            names.get(set_by, "No price"),
            f"{n} listing{'s' if n > 1 else ''} {limit}",
            "the old price stands, or the listing is paused where it would lose money",
            since,
            Step(f"Review {n}", go=f"/watch?state=waits&set_by={set_by}"),
            half_up(int(loss or 0), PPM),
            True,
            count=n,
        )


def _dead(desk: Desk) -> Iterator[Trouble]:
    for row in desk.s.scalars(select(Outbox).where(Outbox.state == "dead").order_by(Outbox.id).limit(100)):
        yield Trouble(
            f"dead:{row.id}",
            "orders" if row.kind in ("purchase", "cancel") else "transit" if row.kind in ("fulfilment", "mail") else "watch",
            "Not taken",
            f"{_NAMES.get(row.kind, row.kind)} {row.subject.partition(':')[2]} was not taken",
            row.answer,
            row.made_at,
            Step("Try again", act=True),
            REFUND_COST,
            False,
            "loss",
        )


_NAMES = {
    "purchase": "Purchase order",
    "cancel": "Cancelling of order",
    "fulfilment": "Tracking of order",
    "mail": "Mail",
    "listing": "Change of listing",
}


def _links(desk: Desk) -> Iterator[Trouble]:
    for link in desk.s.scalars(select(Link).where(Link.state == "broken")):
        row = desk.s.get(OWNERS[link.owner], link.owner_id)
        yield Trouble(
            f"link:{link.id}",
            "watch",
            "Broken link",
            f"{row.name if row else link.owner} does not answer as it should",
            link.told,
            link.good_at or desk.now,
            Step("Mend the link", go=f"/setup/{link.owner}s"),
            0,
            False,
            "loss",
        )


def _numbers(desk: Desk) -> Iterator[Trouble]:
    for po in desk.s.scalars(select(PurchaseOrder).where(PurchaseOrder.state == "accepted", PurchaseOrder.told != "")):
        yield Trouble(
            f"number:{po.id}",
            "transit",
            "Number",
            f"{po.reference}: the supplier's tracking number is wrong",
            po.told,
            po.answered_at or po.made_at,
            Step("Enter the right one", go=f"/transit?show=numbers&row={po.id}"),
            0,
        )


def _parcels(desk: Desk) -> Iterator[Trouble]:
    rows = desk.s.execute(
        select(Parcel, func.min(Order.promised_by), func.sum(PurchaseOrder.goods))
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .join(PurchaseOrder, PurchaseOrder.id == ParcelLine.purchase_id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .where(Parcel.state.in_(("label", "moving", "returned")))
        .group_by(Parcel.id)
    ).all()
    groups: dict[str, list[tuple[Parcel, int]]] = {}
    for parcel, promised, goods in rows:
        if (wrong := trouble_of(parcel, promised, desk.now)) and not (
            parcel.state == "returned" and desk.now - (parcel.ended_at or desk.now) > timedelta(days=7)
        ):
            groups.setdefault(wrong, []).append((parcel, int(goods or 0)))
    for wrong, parcels in groups.items():
        n = len(parcels)
        since = min(parcel.moved_at or parcel.made_at for parcel, _ in parcels)
        yield Trouble(
            f"parcels:{wrong}",
            "transit",
            "Late",
            f"{n} parcel{'s' if n > 1 else ''}: {wrong}",
            "ask the carrier or tell the buyer before they ask",
            since,
            Step(f"Review {n}", go="/transit?show=trouble"),
            sum(goods for _, goods in parcels) + n * REFUND_COST,
            count=n,
        )


SOURCES = (
    _oversell,
    _held_orders,
    _refused_orders,
    _unmapped_orders,
    _unmapped_listings,
    _sweeps,
    _doubts,
    _waiting_listings,
    _dead,
    _links,
    _numbers,
    _parcels,
)
