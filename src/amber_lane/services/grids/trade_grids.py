"""The long lists of orders and parcels. What is told of an order by its lines is worked out for the rows of a page alone."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import and_, case, false, func, or_, select

from ...core.states import OrderLineState
from ...data.orders import FillPlan, Hold, Order, OrderLine, PurchaseOrder
from ...data.setup import Carrier, Store, Supplier
from ...data.transit import Parcel, ParcelLine
from ..base.context import Context
from .grid import GridSpec, Seeker

# The state of an order is that of its line that is furthest from done.
_RANK = (
    OrderLineState.needs_lane,
    OrderLineState.held,
    OrderLineState.refused,
    OrderLineState.new,
    OrderLineState.ready,
    OrderLineState.bought,
    OrderLineState.with_supplier,
    OrderLineState.on_the_road,
    OrderLineState.arrived,
    OrderLineState.cancelled,
)
ORDER_STATES: dict[str, str] = {state: str(rank) for rank, state in enumerate(_RANK)}


def _state_rank() -> Any:
    return func.min(case({state: i for i, state in enumerate(_RANK)}, value=OrderLine.state, else_=len(_RANK)))


def _of_lines(what: Any) -> Any:
    return select(what).where(OrderLine.order_id == Order.id).correlate(Order).scalar_subquery()


_rank = _of_lines(_state_rank())


def _stands(ranks: list[Any]) -> Any:
    """An order stands so when it has a line that does and none that is further from done."""

    def lines(states: Sequence[str]) -> Any:
        return select(OrderLine.order_id).where(OrderLine.state.in_(states))

    found = [rank for rank in ranks if 0 <= rank < len(_RANK)]
    return or_(false(), *(Order.id.in_(lines(_RANK[rank : rank + 1])) & Order.id.not_in(lines(_RANK[:rank])) for rank in found))


def _found_order(seek: Seeker, word: str) -> Any:
    holds = seek.holds
    inside = select(OrderLine.order_id).where(or_(holds(OrderLine.title, word), holds(OrderLine.sku_code, word)))
    named = or_(holds(PurchaseOrder.reference, word), holds(PurchaseOrder.their_number, word), holds(PurchaseOrder.batch, word))
    bought = select(PurchaseOrder.order_id).where(named)
    return or_(holds(Order.number, word), holds(Order.buyer, word), Order.id.in_(inside), Order.id.in_(bought))


ORDERS = GridSpec(
    select()
    .select_from(Order)
    .join(Store, Store.id == Order.store_id)
    .outerjoin(FillPlan, FillPlan.order_id == Order.id)
    .outerjoin(Hold, and_(Hold.order_id == Order.id, Hold.ended.is_(None))),
    {
        "id": Order.id,
        "version": Order.version,
        "number": Order.number,
        "store": Store.name,
        "buyer": Order.buyer,
        "country": Order.country,
        "title": _of_lines(func.min(OrderLine.title)),
        "sku": _of_lines(func.min(OrderLine.sku_code)),
        "lines": _of_lines(func.count()),
        "gone": _of_lines(func.sum(case((OrderLine.state.in_((OrderLineState.on_the_road, OrderLineState.arrived)), 1), else_=0))),
        "units": _of_lines(func.sum(OrderLine.quantity)),
        "paid": _of_lines(func.sum(OrderLine.total)),
        "kept": _of_lines(func.sum(OrderLine.net_revenue)),
        "currency": Order.currency,
        "rank": _rank,
        "profit": FillPlan.known_profit,
        "message": Hold.message,
        "limit": Hold.limit,
        "ordered_at": Order.ordered_at,
        "came_at": Order.came_at,
        "promised_by": Order.promised_by,
        "send_after": Order.send_after,
        "by_hand": Order.manual_release,
    },
    (Order.number, Order.buyer),
    {"rank": _rank, "store": Store.code},
    (Order.ordered_at.desc(), Order.id.desc()),
    slim=((select().select_from(Order), frozenset({Order.__table__})),),
    seek=_found_order,
    message={"rank": _stands},
)


def _found_parcel(seek: Seeker, word: str) -> Any:
    holds = seek.holds
    inside = (
        select(ParcelLine.parcel_id)
        .join(PurchaseOrder, PurchaseOrder.id == ParcelLine.purchase_id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .where(or_(holds(Order.number, word), holds(Order.buyer, word), holds(PurchaseOrder.reference, word)))
    )
    return or_(holds(Parcel.number, word), Parcel.id.in_(inside))


# A parcel with lines of several orders stands once, at the first of them.
_first = select(func.min(ParcelLine.id)).where(ParcelLine.parcel_id == Parcel.id).correlate(Parcel).scalar_subquery()
_own = (
    select()
    .select_from(Parcel)
    .join(ParcelLine, ParcelLine.id == _first)
    .join(PurchaseOrder, PurchaseOrder.id == ParcelLine.purchase_id)
    .join(Order, Order.id == PurchaseOrder.order_id)
)
_alone = select().select_from(Parcel).where(Parcel.ended_by != "replaced")
_also = ParcelLine.__table__.alias()
_orders_in = (
    select(func.count(PurchaseOrder.order_id.distinct()))
    .select_from(_also.join(PurchaseOrder.__table__, PurchaseOrder.id == _also.c.purchase_id))
    .where(_also.c.parcel_id == Parcel.id)
    .correlate(Parcel)
    .scalar_subquery()
)

PARCELS = GridSpec(
    _own.join(Carrier, Carrier.id == Parcel.carrier_id)
    .join(Supplier, Supplier.id == PurchaseOrder.supplier_id)
    .join(Store, Store.id == Order.store_id),
    {
        "id": Parcel.id,
        "number": Parcel.number,
        "carrier": Carrier.name,
        "state": Parcel.state,
        "last_word": Parcel.last_word,
        "made_at": Parcel.made_at,
        "moved_at": Parcel.moved_at,
        "ended_at": Parcel.ended_at,
        "order": Order.number,
        "order_id": Order.id,
        "buyer": Order.buyer,
        "country": Order.country,
        "promised_by": Order.promised_by,
        "supplier": Supplier.name,
        "reference": PurchaseOrder.reference,
        "store": Store.name,
        "ended_by": Parcel.ended_by,
        "orders": _orders_in,
    },
    (Parcel.number,),
    {"state": Parcel.state},
    (Parcel.id.desc(),),
    slim=((_alone, frozenset({Parcel.__table__})), (_own, frozenset({Parcel.__table__, Order.__table__, PurchaseOrder.__table__}))),
    seek=_found_parcel,
)


def states_of_orders(context: Context) -> dict[str, int]:
    """How many orders stand where. Those that are done are counted, not looked at one by one."""
    lines = select(OrderLine.order_id)
    going = lines.where(OrderLine.state.in_(_RANK[:-2])).distinct().subquery()
    ranks = (
        select(OrderLine.order_id, _state_rank().label("rank"))
        .where(OrderLine.order_id.in_(select(going.c.order_id)))
        .group_by(OrderLine.order_id)
        .subquery()
    )
    rows = context.session.execute(select(ranks.c.rank, func.count()).group_by(ranks.c.rank)).all()
    found = {_RANK[rank]: n for rank, n in rows if rank < len(_RANK)}
    gone = lines.where(OrderLine.state == OrderLineState.cancelled).distinct().subquery()
    other = select(OrderLine.id).where(OrderLine.order_id == gone.c.order_id, OrderLine.state != OrderLineState.cancelled).exists()
    cancelled = context.session.scalar(select(func.count()).select_from(gone).where(~other)) or 0
    total = context.session.scalar(select(func.count()).select_from(Order)) or 0
    arrived = total - sum(found.values()) - cancelled
    return found | {state: n for state, n in (("arrived", arrived), ("cancelled", cancelled)) if n}
