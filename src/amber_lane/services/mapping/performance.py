"""How far each lane can be trusted, from purchase orders and parcels; and lanes made slow or shut by it (section 8)."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import BigInteger, and_, func, select, type_coerce

from ...core.money import Bools, Floats, Ints
from ...core.numbers import PPM
from ...core.price import NONE
from ...core.states import LaneCause, LaneState, PurchaseState
from ...core.trust import LIKE_POOL, Days, Share, days, share, shares, shrunk, states_by_trust
from ...data.base import Row, by_index, to_ms
from ...data.bulk import bulk_update, by_id, in_chunks
from ...data.columns import fetch_columns, or_none, place_of
from ...data.lanes import Lane, LanePart
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.setup import Supplier
from ...data.transit import Parcel, ParcelLine
from ..base import house_days
from ..base.context import Context
from ..pricing.policy import policy_for
from . import lane_states

DAY_MS = 86_400_000
# Lanes that are moved in one transaction.
PORTION = 100
# The newest so many purchases of a supplier say what it is like now.
POOL = 1000
_DECIDED = (PurchaseState.accepted, PurchaseState.shipped, PurchaseState.refused)
_MAY_MOVE = and_(
    Lane.closed_at.is_(None), Lane.state.in_((LaneState.open, LaneState.slow)), Lane.cause.not_in((LaneCause.person, LaneCause.confirmed))
)


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

    def add(self, state: str, made: int, due: int | None, ended: int | None, now: int) -> None:
        """due: when the promised day is over; all in milliseconds."""
        self.answered += 1
        self.taken += state != "refused"
        if ended is not None:
            self.days = [*(self.days or []), max(round((ended - made) / DAY_MS), 0)]
        if due is not None and state != "refused" and (ended is not None or now > due):
            self.decided += 1
            self.kept += ended is not None and ended <= due


@dataclass(frozen=True)
class Own:
    """What happened to lanes that orders went by: columns of one entry for each. pool: the place of its supplier's pool.

    taken of answered, kept of decided; came: how many parcels arrived. days: of lanes with enough of them to count for themselves.
    """

    lane: Ints
    supplier: Ints
    taken: Ints
    answered: Ints
    kept: Ints
    decided: Ints
    came: Ints
    days: dict[int, list[int]]


@dataclass(frozen=True)
class PerformanceSeen:
    """What happened, looked at once: what routing counts with, and where the state of lanes should be another.

    lanes: lane -> (refused ppm, late ppm, sure days or None); suppliers: supplier -> (refused ppm, late ppm).
    """

    own: Own
    pools: dict[int, _Past]
    lanes: dict[int, tuple[int, int, int | None]]
    suppliers: dict[int, tuple[int, int]]


def seen(context: Context) -> PerformanceSeen:
    """All lanes that orders went by, and all suppliers, in one look at what was bought. Reads only."""
    pools = {number: _pool(context, number) for number in context.session.scalars(select(Supplier.id))}
    own = _all_own(context)
    accepted, on_time = _shares_of(own, pools)
    sure = {lane: _sure(days(found, pools[by].days or [])) for lane, by, found in _with_days(own)}
    refused, late = (np.rint((1 - one[0]) * PPM).astype(np.int64).tolist() for one in (accepted, on_time))
    known = ((own.decided > 0) | (own.came > 0)).tolist()
    records = zip(own.lane.tolist(), own.answered.tolist(), refused, late, known, strict=True)
    lanes = {lane: (bad, slow if any_decided else 0, sure.get(lane)) for lane, answered, bad, slow, any_decided in records if answered}
    return PerformanceSeen(own, pools, lanes, _by_supplier(pools))


def _with_days(own: Own) -> Iterator[tuple[int, int, list[int]]]:
    by = dict(zip(own.lane.tolist(), own.supplier.tolist(), strict=True))
    for lane, found in own.days.items():
        yield lane, by[lane], found


def _shares_of(own: Own, pools: dict[int, _Past]) -> tuple[tuple[Floats, Floats, Floats], tuple[Floats, Floats, Floats]]:
    """Mean, low and high of what was accepted, and of what was on time."""

    def of_pool(name: str) -> Ints:
        table = {number: getattr(one, name) for number, one in pools.items()}
        return np.array([table[number] for number in own.supplier.tolist()], dtype=np.int64)

    return (
        shares(own.taken, own.answered, of_pool("taken"), of_pool("answered")),
        shares(own.kept, own.decided, of_pool("kept"), of_pool("decided")),
    )


def _came(context: Context, purchase: Ints) -> Ints:
    """When the last parcel of each purchase came, in milliseconds; NONE = none has come."""
    came = (
        select(ParcelLine.purchase_id, func.max(type_coerce(Parcel.ended_at, BigInteger)))
        .join(Parcel, Parcel.id == ParcelLine.parcel_id)
        .where(Parcel.ended_at.is_not(None))
        .group_by(ParcelLine.purchase_id)
    )
    arrived, when = fetch_columns(context.session, came)
    if not len(arrived):
        return np.full(len(purchase), NONE, dtype=np.int64)
    at = np.minimum(np.searchsorted(arrived, purchase), len(arrived) - 1)
    return np.where(arrived[at] == purchase, when[at], NONE)


def _all_own(context: Context) -> Own:
    """What was bought by each lane's items for its SKU, as columns."""
    now = to_ms(context.now)
    bought = (
        select(
            OrderLine.sku_id,
            PurchaseLine.item_id,
            PurchaseOrder.id,
            place_of(PurchaseOrder.state, _DECIDED),
            type_coerce(PurchaseOrder.made_at, BigInteger),
            or_none(type_coerce(Order.promised_by, BigInteger)),
        )
        .join(PurchaseLine, PurchaseLine.order_line_id == OrderLine.id)
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .where(PurchaseOrder.state.in_(_DECIDED), OrderLine.sku_id.is_not(None))
    )
    sku, item, purchase, state, made, promised = fetch_columns(context.session, bought)
    lanes = select(Lane.id, Lane.sku_id, LanePart.item_id, Lane.supplier_id).join(LanePart, LanePart.lane_id == Lane.id)
    lane, lane_sku, lane_item, supplier = fetch_columns(context.session, lanes.where(Lane.closed_at.is_(None)))
    wide = int(max(item.max(initial=0), lane_item.max(initial=0))) + 1
    key = sku * wide + item
    order = np.argsort(key, kind="stable")
    low, high = (np.searchsorted(key[order], lane_sku * wide + lane_item, side) for side in ("left", "right"))
    many = high - low
    row = np.repeat(np.arange(len(lane)), many)
    line = order[np.repeat(low, many) + np.arange(int(many.sum())) - np.repeat(np.cumsum(many) - many, many)]
    # A kit's items in one purchase count once.
    _, first = np.unique(lane[row] * (int(purchase.max(initial=0)) + 1) + purchase[line], return_index=True)
    row, line = row[first], line[first]
    ended = _came(context, purchase[line])
    there, taken = ended != NONE, state[line] != _DECIDED.index("refused")
    due = house_days.ends_ms(context, promised[line])
    decided = (promised[line] != NONE) & taken & (there | (now > due))
    kept = decided & there & (ended <= due)
    used, place = np.unique(lane[row], return_inverse=True)
    place = place.reshape(-1)

    def count(which: Bools) -> Ints:
        return np.bincount(place[which], minlength=len(used)).astype(np.int64)

    out = Own(
        used,
        _of(lane, supplier, used),
        count(taken),
        count(np.ones(len(row), dtype=np.bool_)),
        count(kept),
        count(decided),
        count(there),
        {},
    )
    enough = np.isin(place, np.flatnonzero(out.came >= LIKE_POOL)) & there
    took = np.maximum(np.rint((ended - made[line]) / DAY_MS), 0).astype(np.int64)
    for number, one in zip(used[place[enough]].tolist(), took[enough].tolist(), strict=True):
        out.days.setdefault(number, []).append(one)
    return out


def _of(lane: Ints, supplier: Ints, wanted: Ints) -> Ints:
    lanes, first = np.unique(lane, return_index=True)
    return np.asarray(supplier[first[np.searchsorted(lanes, wanted)]], dtype=np.int64)


def _bad(good: float) -> int:
    return round((1 - good) * PPM)


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


def fresh(context: Context, found: PerformanceSeen) -> dict[type[Row], list[tuple[Any, ...]]]:
    """What routing counts with where it is another than is written: rows for `keep`, by table. Reads only."""
    out: dict[type[Row], list[tuple[Any, ...]]] = {}
    for kind, changed in ((Lane, found.lanes), (Supplier, found.suppliers)):
        for chunk in in_chunks(changed):
            columns = (kind.id, *(getattr(kind, name) for name in _WRITTEN[kind]))
            rows = context.session.execute(select(*columns).where(kind.id.in_(chunk))).tuples()
            out.setdefault(kind, []).extend((*changed[number], number) for number, *had in rows if tuple(had) != tuple(changed[number]))
    return out


def save_records(context: Context, kind: type[Row], rows: Sequence[tuple[Any, ...]]) -> None:
    """What routing counts with, written where it reads it."""
    bulk_update(context.session, kind, _WRITTEN[kind], rows)


_WRITTEN: dict[type[Row], tuple[str, ...]] = {Lane: ("refuse_ppm", "late_ppm", "sure_days"), Supplier: ("refuse_ppm", "late_ppm")}


def trusts(context: Context, lanes: Collection[int], pools: dict[int, _Past] | None = None) -> dict[int, Trust]:
    """Per lane: what its SKU's orders by its items came to, with its supplier's newest thousand as the pool."""
    rows = by_id(context.session, Lane, lanes).values()
    own = _own(context, [lane.id for lane in rows])
    # A thousand purchases do not become others by one more; nobody waits for them to be read again.
    pools = pools or {
        number: context.kept(f"pool {number}", lambda context, number=number: _pool(context, number), 10, still=True)  # type: ignore[misc]
        for number in {lane.supplier_id for lane in rows}
    }
    return {lane.id: _trust(own.get(lane.id, _Past()), pools[lane.supplier_id]) for lane in rows}


def _trust(own: _Past, pool: _Past) -> Trust:
    return Trust(
        share(own.taken, own.answered, pool.taken, pool.answered),
        share(own.kept, own.decided, pool.kept, pool.decided),
        days(own.days or [], pool.days or []),
    )


def _over(context: Context, promised: date | None) -> int | None:
    return None if promised is None else to_ms(house_days.begin(context, promised + timedelta(days=1)))


def _ms(value: datetime | None) -> int | None:
    return None if value is None else to_ms(value)


def _own(context: Context, lanes: Collection[int]) -> dict[int, _Past]:
    now, out = to_ms(context.now), dict[int, _Past]()
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
        rows = by_index(by_index(rows, PurchaseLine, "ix_purchase_line_item_id"), ParcelLine, "ix_parcel_line_purchase_id")
        seen: set[tuple[int, int]] = set()
        for lane, purchase, state, made, promised, ended in context.session.execute(rows):
            # A kit's items in one purchase, and a purchase in several parcels, count once: by the last parcel.
            if (lane, purchase) not in seen:
                seen.add((lane, purchase))
                out.setdefault(lane, _Past()).add(state, to_ms(made), _over(context, promised), _ms(ended), now)
    return out


def _pool(context: Context, supplier: int) -> _Past:
    now, out = to_ms(context.now), _Past()
    newest = (
        select(PurchaseOrder.id)
        .where(PurchaseOrder.supplier_id == supplier, PurchaseOrder.state.in_(_DECIDED))
        .order_by(PurchaseOrder.id.desc())
        .limit(POOL)
    )
    rows = (
        select(PurchaseOrder.id, PurchaseOrder.state, PurchaseOrder.made_at, Order.promised_by, Parcel.ended_at)
        .where(PurchaseOrder.id.in_(list(context.session.scalars(newest))))
        .join(Order, Order.id == PurchaseOrder.order_id)
        .outerjoin(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .outerjoin(Parcel, Parcel.id == ParcelLine.parcel_id)
        .order_by(PurchaseOrder.id, Parcel.ended_at.desc())
    )
    days_seen: list[int] = []
    last = 0
    for purchase, state, made, promised, ended in context.session.execute(rows):
        if purchase != last:
            last = purchase
            out.days = None
            out.add(state, to_ms(made), _over(context, promised), _ms(ended), now)
            days_seen += out.days or []
    out.days = days_seen
    return out


def moves(context: Context, found: PerformanceSeen) -> dict[int, tuple[str, str]]:
    """Lanes that prove late are slow, those that prove refused are shut, slow ones that mend are open again: lane -> state, reason.

    What a person set or confirmed stays as they said.
    """
    suppliers = by_id(context.session, Supplier, set(found.own.supplier.tolist()))
    limits = {number: policy_for(context.session, supplier=row.code) for number, row in suppliers.items()}
    of = found.own.supplier.tolist()
    slow, shut = (np.array([limits[number][name] for number in of], dtype=np.int64) / PPM for name in ("slow_below", "shut_below"))
    accepted, on_time = _shares_of(found.own, found.pools)
    states = states_by_trust(found.own.decided, on_time[2], slow, found.own.answered, accepted[2], shut)
    wanted = dict(zip(found.own.lane.tolist(), states, strict=True))
    other = [lane.id for lane in _movable(context, wanted) if wanted[lane.id] != lane.state]
    words = trusts(context, other, found.pools) if other else {}
    return {number: (wanted[number], f"by what happened: {in_words(words[number], wanted[number])}") for number in other}


def move(context: Context, found: dict[int, tuple[str, str]]) -> int:
    """Set lanes as they proved, as far as nobody has set them otherwise meanwhile. Returns how many moved."""
    moved = _movable(context, found)
    for lane in moved:
        state, reason = found[lane.id]
        lane_states.move(lane, lane_states.JUDGED[state], LaneCause.record, reason)
    if moved:
        kinds = ", ".join(f"{sum(1 for one in moved if one.state == kind)} {kind}" for kind in ("open", "slow", "shut"))
        first = moved[0]
        context.log("lane.trust", "lanes", f"lanes by what happened: {kinds}", reason=f"{first.sku_code} {first.reason}", count=len(moved))
        context.session.flush()
        context.reprice({lane.sku_id for lane in moved}, alone=True)
        context.reroute()
    return len(moved)


def _movable(context: Context, lanes: Iterable[int]) -> list[Lane]:
    """Those that nobody has set otherwise."""
    return [
        lane
        for chunk in in_chunks(lanes)
        for lane in context.session.scalars(select(Lane).where(Lane.id.in_(chunk), _MAY_MOVE).order_by(Lane.id))
    ]


def follow_trust(context: Context) -> int:
    """All in one transaction, for a house of any modest size."""
    found = seen(context)
    for kind, rows in fresh(context, found).items():
        save_records(context, kind, rows)
    return move(context, moves(context, found))


def in_words(one: Trust, state: str) -> str:
    """Why a lane is in a state, with its figures."""
    if state == "shut":
        return f"{one.accepted.good} of {one.accepted.count} purchase orders taken"
    return f"{one.on_time.good} of {one.on_time.count} parcels by the promise"
