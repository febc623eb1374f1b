"""How far each lane can be trusted, from purchase orders and parcels; and lanes made slow or shut by it (section 8)."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import and_, select

from ..core.money import PPM
from ..core.trust import LIKE_POOL, Days, Share, days, share, shrunk, state_by_trust
from ..data.base import to_ms
from ..data.lanes import Lane, LanePart
from ..data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ..data.setup import Supplier
from ..data.transit import Parcel, ParcelLine
from .desk import Desk, bulk_update, by_id, in_chunks
from .planning import replan
from .policy import policy_for
from .respond import respond

DAY_MS = 86_400_000
# The newest so many purchases of a supplier say what it is like now.
POOL = 1000
BY_ITSELF = "by what happened: "
_DECIDED = ("accepted", "shipped", "refused")
_MAY_MOVE = and_(Lane.until.is_(None), Lane.state.in_(("open", "slow")), ~Lane.why.startswith("set by"), ~Lane.why.startswith("looked at"))


@dataclass(frozen=True)
class Trust:
    """accepted: purchase orders taken of those answered; on_time: parcels there by the promise of those decided; days to the door."""

    accepted: Share
    on_time: Share
    days: Days


@dataclass
class _Past:
    taken: int = 0
    answered: int = 0
    kept: int = 0
    decided: int = 0
    days: list[int] | None = None

    def add(self, state: str, made: int, promised: int | None, ended: int | None, now: int) -> None:
        self.answered += 1
        self.taken += state != "refused"
        if ended is not None:
            self.days = [*(self.days or []), max(round((ended - made) / DAY_MS), 0)]
        if promised is not None and state != "refused" and (ended is not None or now > promised + DAY_MS):
            self.decided += 1
            self.kept += ended is not None and ended <= promised + DAY_MS


@dataclass(frozen=True)
class Seen:
    """What happened, looked at once: trust by lane that was used, and what routing counts with.

    lanes: lane -> (refused ppm, late ppm, sure days or None); suppliers: supplier -> (refused ppm, late ppm).
    """

    trusts: dict[int, Trust]
    lanes: dict[int, tuple[int, int, int | None]]
    suppliers: dict[int, tuple[int, int]]


def seen(desk: Desk) -> Seen:
    """All lanes that orders went by, and all suppliers. Reads only, since it may take a while."""
    used = (
        select(Lane.id)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(PurchaseLine, PurchaseLine.item_id == LanePart.item_id)
        .join(OrderLine, (OrderLine.id == PurchaseLine.order_line_id) & (OrderLine.sku_id == Lane.sku_id))
        .where(Lane.until.is_(None))
        .distinct()
    )
    pools = {number: _pool(desk, number) for number in desk.s.scalars(select(Supplier.id))}
    told = trusts(desk, list(desk.s.scalars(used)), pools)
    lanes = {
        number: (_bad(one.accepted.mean), _bad(one.on_time.mean) if _any_decided(one) else 0, _sure(one.days))
        for number, one in told.items()
        if one.accepted.count
    }
    return Seen(told, lanes, _by_supplier(pools))


def _bad(good: float) -> int:
    return round((1 - good) * PPM)


def _any_decided(one: Trust) -> bool:
    return one.on_time.count > 0 or one.days.count > 0


def _sure(found: Days) -> int | None:
    """Days are a lane's own once there are as many of its parcels as its supplier's pool counts for."""
    return found.sure if found.count >= LIKE_POOL else None


def _by_supplier(pools: dict[int, _Past]) -> dict[int, tuple[int, int]]:
    def house(name: str) -> int:
        return sum(getattr(one, name) for one in pools.values())

    # Where nothing has happened at all, nothing is known, and nothing is counted.
    if not house("answered"):
        return {}
    out = {}
    for number, one in pools.items():
        refused = _bad(shrunk(one.taken, one.answered, house("taken"), house("answered")))
        late = _bad(shrunk(one.kept, one.decided, house("kept"), house("decided"))) if house("decided") else 0
        out[number] = (refused, late)
    return out


def keep(desk: Desk, found: Seen) -> None:
    """What routing counts with, written where it reads it; only what changed."""
    for kind, columns, told in (
        (Lane, ("refuse_ppm", "late_ppm", "sure_days"), found.lanes),
        (Supplier, ("refuse_ppm", "late_ppm"), found.suppliers),
    ):
        for chunk in in_chunks(told):
            rows = desk.s.execute(select(kind.id, *(getattr(kind, name) for name in columns)).where(kind.id.in_(chunk))).tuples()
            fresh = [(*told[number], number) for number, *had in rows if tuple(had) != tuple(told[number])]
            bulk_update(desk.s, kind, columns, fresh)


def trusts(desk: Desk, lanes: Collection[int], pools: dict[int, _Past] | None = None) -> dict[int, Trust]:
    """Per lane: what its SKU's orders by its items came to, with its supplier's newest thousand as the pool."""
    rows = by_id(desk.s, Lane, lanes).values()
    own = _own(desk, [lane.id for lane in rows])
    pools = pools or {number: _pool(desk, number) for number in {lane.supplier_id for lane in rows}}
    return {lane.id: _trust(own.get(lane.id, _Past()), pools[lane.supplier_id]) for lane in rows}


def _trust(own: _Past, pool: _Past) -> Trust:
    return Trust(
        share(own.taken, own.answered, pool.taken, pool.answered),
        share(own.kept, own.decided, pool.kept, pool.decided),
        days(own.days or [], pool.days or []),
    )


def _ms(value: datetime | None) -> int | None:
    return None if value is None else to_ms(value)


def _own(desk: Desk, lanes: Collection[int]) -> dict[int, _Past]:
    now, out = to_ms(desk.now), dict[int, _Past]()
    for chunk in in_chunks(lanes, 500):
        rows = (
            select(Lane.id, PurchaseOrder.id, PurchaseOrder.state, PurchaseOrder.made_at, Order.promised_by, Parcel.ended_at)
            .select_from(Lane)
            .join(LanePart, LanePart.lane_id == Lane.id)
            .join(PurchaseLine, PurchaseLine.item_id == LanePart.item_id)
            .join(OrderLine, (OrderLine.id == PurchaseLine.order_line_id) & (OrderLine.sku_id == Lane.sku_id))
            .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
            .join(Order, Order.id == PurchaseOrder.order_id)
            .outerjoin(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
            .outerjoin(Parcel, Parcel.id == ParcelLine.parcel_id)
            .where(Lane.id.in_(chunk), PurchaseOrder.state.in_(_DECIDED))
            .order_by(Lane.id, PurchaseOrder.id, Parcel.ended_at.desc())
        )
        seen: set[tuple[int, int]] = set()
        for lane, purchase, state, made, promised, ended in desk.s.execute(rows):
            # A kit's items in one purchase, and a purchase in several parcels, count once: by the last parcel.
            if (lane, purchase) not in seen:
                seen.add((lane, purchase))
                out.setdefault(lane, _Past()).add(state, to_ms(made), _ms(promised), _ms(ended), now)
    return out


def _pool(desk: Desk, supplier: int) -> _Past:
    now, out = to_ms(desk.now), _Past()
    newest = (
        select(PurchaseOrder.id)
        .where(PurchaseOrder.supplier_id == supplier, PurchaseOrder.state.in_(_DECIDED))
        .order_by(PurchaseOrder.id.desc())
        .limit(POOL)
        .subquery()
    )
    rows = (
        select(PurchaseOrder.id, PurchaseOrder.state, PurchaseOrder.made_at, Order.promised_by, Parcel.ended_at)
        .join(newest, newest.c.id == PurchaseOrder.id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .outerjoin(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .outerjoin(Parcel, Parcel.id == ParcelLine.parcel_id)
        .order_by(PurchaseOrder.id, Parcel.ended_at.desc())
    )
    days_seen: list[int] = []
    last = 0
    for purchase, state, made, promised, ended in desk.s.execute(rows):
        if purchase != last:
            last = purchase
            out.days = None
            out.add(state, to_ms(made), _ms(promised), _ms(ended), now)
            days_seen += out.days or []
    out.days = days_seen
    return out


def moves(desk: Desk, told: dict[int, Trust]) -> dict[int, tuple[str, str]]:
    """Lanes that prove late are slow, those that prove refused are shut, slow ones that mend are open again: lane -> state, reason.

    What a person set or confirmed stays as they said.
    """
    limits: dict[int, tuple[float, float]] = {}
    lanes = {lane.id: lane for lane in _movable(desk, told)}
    suppliers = by_id(desk.s, Supplier, {lane.supplier_id for lane in lanes.values()})
    found: dict[int, tuple[str, str]] = {}
    for number, lane in lanes.items():
        if lane.supplier_id not in limits:
            policy = policy_for(desk.s, supplier=suppliers[lane.supplier_id].code)
            limits[lane.supplier_id] = (policy["slow_below"] / 1e6, policy["shut_below"] / 1e6)
        one = told[number]
        state = state_by_trust(one.accepted, one.on_time, *limits[lane.supplier_id])
        if state != lane.state:
            found[number] = (state, BY_ITSELF + in_words(one, state))
    return found


def move(desk: Desk, found: dict[int, tuple[str, str]]) -> int:
    """Set lanes as they proved, as far as nobody has set them otherwise meanwhile. Returns how many moved."""
    moved = _movable(desk, found)
    for lane in moved:
        lane.state, lane.why = found[lane.id]
        lane.version += 1
    if moved:
        kinds = ", ".join(f"{sum(1 for one in moved if one.state == kind)} {kind}" for kind in ("open", "slow", "shut"))
        first = moved[0]
        desk.log("lane.trust", "lanes", f"lanes by what happened: {kinds}", why=f"{first.sku_code} {first.why}", count=len(moved))
        desk.s.flush()
        respond(desk, {lane.sku_id for lane in moved}, alone=True)
        replan(desk)
    return len(moved)


def _movable(desk: Desk, lanes: Iterable[int]) -> list[Lane]:
    """Those that nobody has set otherwise."""
    return [
        lane for chunk in in_chunks(lanes) for lane in desk.s.scalars(select(Lane).where(Lane.id.in_(chunk), _MAY_MOVE).order_by(Lane.id))
    ]


def follow_trust(desk: Desk) -> int:
    """All in one transaction, for a house of any modest size."""
    found = seen(desk)
    keep(desk, found)
    return move(desk, moves(desk, found.trusts))


def in_words(one: Trust, state: str) -> str:
    """Why a lane is in a state, with its figures."""
    if state == "shut":
        return f"{one.accepted.good} of {one.accepted.count} purchase orders taken"
    return f"{one.on_time.good} of {one.on_time.count} parcels by the promise"
