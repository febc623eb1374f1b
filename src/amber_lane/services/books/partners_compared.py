"""Suppliers and stores side by side: what is earned by each, how they let us down, and which lanes should come first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import func, select

from ...core.books import Basis, Kind
from ...core.numbers import PPM, half_up
from ...core.states import LaneState
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.setup import Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..mapping import bulk_changes
from ..mapping.landed_cost import Costing, parts_of
from ..mapping.performance import seen
from ..pricing.exchange_rates import HomeWorth
from ..pricing.policy import refund_cost
from . import columns, profit
from .grouping import Period
from .profit import View

# Most SKUs whose lanes are weighed against each other, those that sell most.
MOST = 5000
# A spare comes first only where it leaves so much more a unit, in ppm of what the main lane costs: less is noise.
LEAST_PPM = 10_000
PACE = 1_000_000


@dataclass(frozen=True)
class Better:
    """A spare lane that would leave more than the main one. a_week: house minor units, at the pace that the SKU sells."""

    sku: int
    lane: int
    supplier: int
    instead_of: int
    a_week: int


@dataclass(frozen=True)
class SupplierRow:
    """One supplier. taken of answered purchase orders, in_time of parcels decided; billed_more, claims, refunds: of the period, house minor
    units; changes: price changes a week; better: spares of other suppliers that should come before its lanes, and what they would bring."""

    id: int
    name: str
    orders: int
    profit: int
    margin: int | None
    taken: int
    answered: int
    in_time: int
    decided: int
    billed_more: int
    claims: int
    refunds: int
    changes: int
    better: int
    better_a_week: int
    # What is lost on claims of what its goods cost, in ppm; None = nothing was claimed yet.
    lost: int | None


@dataclass(frozen=True)
class StoreRow:
    """One store. takes: its fees of what buyers paid, in ppm; refunded likewise."""

    id: int
    name: str
    orders: int
    sales: int
    takes: int | None
    refunded: int | None
    profit: int
    margin: int | None


def weeks(context: Context) -> Period:
    """The last four weeks."""
    today = house_days.today(context)
    return Period(today - timedelta(days=28), today - timedelta(days=1))


def suppliers(context: Context, period: Period) -> list[SupplierRow]:
    """All suppliers by what was earned through them."""
    found = {one.key: one for one in profit.table(context, View("supplier", period, period.before(), limit=500)).rows}
    kinds = _by_basis(context, period)
    own = seen(context).own
    since = house_days.begin(context, period.first)
    rows = context.session.execute(
        select(Item.supplier_id, func.count())
        .join(ListingDecision, ListingDecision.item_id == Item.id)
        .where(ListingDecision.kind == "reprice", ListingDecision.at >= since)
        .group_by(Item.supplier_id)
    )
    changes = dict(rows.tuples().all())
    better: dict[int, list[Better]] = {}
    for one in better_lanes(context):
        better.setdefault(one.instead_of, []).append(one)
    out = []
    for row in context.session.scalars(select(Supplier).where(Supplier.ended_at.is_(None)).order_by(Supplier.name)):
        group, mine, his = found.get(row.id), better.get(row.id, []), own.supplier == row.id
        now = group.now if group else None
        record = [int(column[his].sum()) for column in (own.taken, own.answered, own.kept, own.decided)]
        out.append(
            SupplierRow(
                row.id,
                row.name,
                now["orders"] if now else 0,
                now["profit"] if now else 0,
                now.margin if now else None,
                record[0],
                record[1],
                record[2],
                record[3],
                kinds.get(row.id, 0),
                now["claims"] if now else 0,
                now["refunds"] if now else 0,
                half_up(changes.get(row.id, 0) * 7, period.days),
                len(mine),
                sum(one.a_week for one in mine),
                row.claim_ppm,
            )
        )
    return sorted(out, key=lambda one: (-one.profit, one.name))


def _by_basis(context: Context, period: Period) -> dict[int, int]:
    """What bills and statements asked above what was planned, by supplier; more is negative for us, so its sign is turned."""
    of = columns.read(context.session)
    later = [columns.BASES.index(one.value) for one in (Basis.bill, Basis.statement, Basis.weight)]
    charges = [columns.KINDS.index(one.value) for one in (Kind.goods, Kind.shipping, Kind.handling, Kind.supplier_tax)]
    out: dict[int, int] = {}
    chosen = period.mask(of)
    for basis in later:
        for kind in charges:
            mine = chosen & (of["basis"] == basis) & (of["kind"] == kind)
            for supplier, home in zip(of["supplier"][mine].tolist(), of["home"][mine].tolist(), strict=True):
                out[supplier] = out.get(supplier, 0) - home
    return out


def stores(context: Context, period: Period) -> list[StoreRow]:
    """All stores by what they leave."""
    out = []
    for one in profit.table(context, View("store", period, period.before(), limit=500)).rows:
        if not one.key:
            continue
        now = one.now
        takes = half_up(-now["fees"] * PPM, now["sales"]) if now["sales"] > 0 else None
        refunded = half_up(-now["refunds"] * PPM, now["sales"]) if now["sales"] > 0 else None
        out.append(StoreRow(one.key, one.name, now["orders"], now["sales"], takes, refunded, now["profit"], now.margin))
    return out


def better_lanes(context: Context) -> list[Better]:
    """Spares that would leave more than the main lane of their SKU, by landed cost and the risk of refusal and lateness; dearest first."""
    return context.kept("books better lanes", _better_lanes, minutes=30, still=True)


def _better_lanes(context: Context) -> list[Better]:
    s = context.session
    several = select(Lane.sku_id).where(*_USABLE).group_by(Lane.sku_id).having(func.count() > 1)
    skus = s.execute(select(Sku.id, Sku.pace).where(Sku.id.in_(several), Sku.pace > 0).order_by(Sku.pace.desc()).limit(MOST)).tuples().all()
    pace = dict(skus)
    out = []
    for sku, found in lane_totals(context, list(pace)).items():
        main = next(((total, lane) for total, lane in found if lane.priority == 0), None)
        cheapest = min(found, key=lambda one: (one[0], one[1].priority))
        if main is None or cheapest[1].priority == 0 or cheapest[1].supplier_id == main[1].supplier_id:
            continue
        saves = main[0] - cheapest[0]
        if saves * PPM >= main[0] * LEAST_PPM:
            a_week = half_up(saves * pace[sku] * 7, PACE)
            out.append(Better(sku, cheapest[1].id, cheapest[1].supplier_id, main[1].supplier_id, a_week))
    return sorted(out, key=lambda one: -one.a_week)


_USABLE = (
    Lane.closed_at.is_(None),
    Lane.begun,
    ~Lane.is_substitute,
    Lane.state.in_((LaneState.open, LaneState.new, LaneState.slow)),
    Lane.store_id.is_(None),
)


def lane_totals(context: Context, skus: Sequence[int]) -> dict[int, list[tuple[int, Lane]]]:
    """What a unit of each SKU costs by each of its lanes that can be used, risk of refusal and lateness with it; house minor units."""
    s = context.session
    lanes = list(s.scalars(select(Lane).where(*_USABLE, Lane.sku_id.in_(skus)).order_by(Lane.sku_id, Lane.priority)))
    parts, items = parts_of(context, lanes)
    costing, worth = Costing(context), HomeWorth(context)
    stores_by_id = {row.id: row for row in s.scalars(select(Store))}
    first_store = select(Listing.sku_id, func.min(Listing.store_id)).where(Listing.sku_id.in_(skus)).group_by(Listing.sku_id)
    listed = {sku: stores_by_id[store] for sku, store in s.execute(first_store)}
    refund = refund_cost(context)
    found: dict[int, list[tuple[int, Lane]]] = {}
    for lane in lanes:
        shop = listed.get(lane.sku_id)
        if shop is None or any(items[part.item_id].stock <= 0 for part in parts[lane.id]):
            continue
        landed = costing.landed(costing.of_lane(lane, parts[lane.id], items, shop.country), shop)
        if landed.reason:
            continue
        supplier = costing.facts.suppliers[lane.supplier_id]
        bad = (lane.refuse_ppm if lane.refuse_ppm is not None else supplier.refuse_ppm or 0) + (
            lane.late_ppm if lane.late_ppm is not None else supplier.late_ppm or 0
        )
        lost = lane.claim_ppm if lane.claim_ppm is not None else supplier.claim_ppm or 0
        total = worth.of(landed.landed + half_up(landed.landed * lost, PPM), shop.currency) + half_up(bad * refund, PPM)
        found.setdefault(lane.sku_id, []).append((total, lane))
    return found


def put_first(context: Context, supplier: int) -> int:
    """Make the better spares of other suppliers the main lanes of all SKUs that come by this supplier now. Can be undone as one."""
    row = context.get(Supplier, supplier, "supplier")
    lanes = [one.lane for one in _better_lanes(context) if one.instead_of == supplier]
    still = [lane.id for lane in by_id(context.session, Lane, lanes).values() if lane.closed_at is None and lane.priority > 0]
    if not still:
        raise Conflict(f"no lane would be better than those of {row.name} any more")
    bulk_changes.change_many(context, still, "main", f"leaves more than by {row.name}")
    return len(still)
