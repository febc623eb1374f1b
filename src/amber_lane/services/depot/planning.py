"""When to send how many, over all goods that depots hold: read once as columns, worked out by the core, within a budget or a container."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import func, select

from ...core import reorder_plan, stock_ahead
from ...core.cartons import Boxed, litres
from ...core.reorder_plan import Chosen, Stocks, Wanted
from ...core.states import HeldState, OrderLineState
from ...data.bulk import by_id, in_chunks
from ...data.depot import DepotTerms, HeldGoods
from ...data.lanes import Lane, LanePart
from ...data.orders import OrderLine
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base import house_days
from ..base.context import Context
from ..pricing.exchange_rates import HomeWorth
from . import ledger, pace
from .ledger import Stock
from .pace import Demand, Lead
from .terms import DepotWishes, limits_of, terms_of, wishes_of

AHEAD = 60
# A SKU whose stock lasts for longer than that, and for longer than a load lasts twice, lies dead.
SLOW_DAYS = 180


@dataclass(frozen=True)
class Goods:
    """All that is known of goods that are held. Money in the house's, minor units; keeps: what one sale leaves before the goods."""

    held: HeldGoods
    sku: Sku
    depot: Supplier
    terms: DepotTerms
    stock: Stock
    lead: Lead
    coming: list[tuple[date | None, int]]
    owed: int
    carton: int
    unit_cost: int
    keeps: int
    storage_day: float


@dataclass(frozen=True)
class ReorderPlan:
    """One row of goods for each row of the columns. chosen: what fits into the budget; today: the day it is made for."""

    rows: list[Goods]
    demand: Demand
    stocks: Stocks
    wanted: Wanted
    chosen: Chosen
    wishes: DepotWishes
    today: date

    def order(self, n: int) -> int:
        """Units that are proposed now: nothing for what nobody sells from there any more, or while it is put off."""
        held = self.rows[n].held
        if held.state != HeldState.agreed or held.source_id is None or (held.quiet_until and held.quiet_until > self.today):
            return 0
        return int(self.chosen.order[n])


def plan(context: Context, budget: int | None = None, room: float | None = None, only: Collection[int] | None = None) -> ReorderPlan:
    """One plan over all goods. budget: minor units of the house's money, None = as the house wishes; room: litres of one container."""
    wishes = wishes_of(context)
    today = house_days.today(context)
    rows = _rows(context, only)
    demand = pace.demand_of(context, {one.sku.id for one in rows}, pace.DAYS if rows else 1)
    stocks = _columns(rows, demand, wishes, today)
    asked = reorder_plan.wanted(stocks)
    within = wishes.budget if budget is None else budget
    chosen = reorder_plan.choose(stocks, asked, None if within is None else float(within), room)
    return ReorderPlan(rows, demand, stocks, asked, chosen, wishes, today)


def _rows(context: Context, only: Collection[int] | None) -> list[Goods]:
    s = context.session
    query = select(HeldGoods).where(HeldGoods.item_id.is_not(None)).order_by(HeldGoods.id)
    held = [one for one in s.scalars(query) if only is None or one.id in only]
    stock = ledger.stock_of(context, [one.id for one in held])
    held = [one for one in held if one.state == HeldState.agreed or stock[one.id].there]
    skus, depots = by_id(s, Sku, (one.sku_id for one in held)), by_id(s, Supplier, (one.supplier_id for one in held))
    items = by_id(s, Item, (one.source_id or 0 for one in held))
    terms = {number: terms_of(context, number) for number in depots}
    leads, coming, owed = pace.leads(context, held, terms), pace.coming(context, [one.id for one in held]), _owed(context, held)
    earned, worth = _earned(context, list(skus)), HomeWorth(context)
    out = []
    for one in held:
        depot, mine = depots[one.supplier_id], stock[one.id]
        sides = (one.sides[0], one.sides[1], one.sides[2])
        unit = worth.of(mine.mean, depot.currency) or _source_cost(worth, one, items.get(one.source_id or 0))
        out.append(
            Goods(
                one,
                skus[one.sku_id],
                depot,
                terms[one.supplier_id],
                mine,
                leads[one.id],
                [(load.due, line.units) for load, line in coming.get(one.id, [])],
                mine.promised + owed.get(one.id, 0),
                max(Boxed(one.id, 1, one.weight_g, sides, one.inner, one.carton).most(limits_of(terms[one.supplier_id])), one.inner),
                unit,
                earned.get(one.sku_id, 0) or unit // 2,
                terms[one.supplier_id].storage * litres(sides) / 1_000_000,
            )
        )
    return out


def _source_cost(worth: HomeWorth, held: HeldGoods, item: Item | None) -> int:
    return 0 if item is None else worth.of(item.cost * held.source_num // held.source_den, item.currency)


def _owed(context: Context, held: list[HeldGoods]) -> dict[int, int]:
    """Units of open order lines that will be bought from this stock and are not yet."""
    by_item = {one.item_id: one.id for one in held if one.item_id}
    out: dict[int, int] = {}
    for chunk in in_chunks(by_item):
        rows = (
            select(LanePart.item_id, func.sum(OrderLine.quantity))
            .join(Lane, Lane.id == LanePart.lane_id)
            .join(OrderLine, OrderLine.lane_id == Lane.id)
            .where(LanePart.item_id.in_(chunk), OrderLine.state.in_((OrderLineState.ready, OrderLineState.held)))
            .group_by(LanePart.item_id)
        )
        out |= {by_item[int(item or 0)]: int(units) for item, units in context.session.execute(rows)}
    return out


def _earned(context: Context, skus: list[int]) -> dict[int, int]:
    """What one sale leaves beyond its goods and sending, by SKU, in the house's money: of the listing that earns most."""
    worth, out = HomeWorth(context), dict[int, int]()
    for chunk in in_chunks(skus):
        rows = select(Listing.sku_id, Listing.profit, Listing.currency).where(Listing.sku_id.in_(chunk), Listing.profit > 0)
        for sku, profit, currency in context.session.execute(rows):
            out[sku] = max(out.get(sku, 0), worth.of(int(profit or 0), currency))
    return out


def _columns(rows: list[Goods], demand: Demand, wishes: DepotWishes, today: date) -> Stocks:
    at = {sku: n for n, sku in enumerate(demand.skus)}
    floats: type[np.float64] = np.float64

    def column(values: list[float]) -> NDArray[np.float64]:
        return np.array(values, dtype=floats)

    def whole(values: list[int]) -> NDArray[np.int64]:
        return np.array(values, dtype=np.int64)

    spans = [round(one.lead.days) + wishes.review for one in rows]
    empty = np.zeros((0, len(demand.days)))
    return Stocks(
        demand=demand.units[[at[one.sku.id] for one in rows]] if rows else empty,
        boost=column([pace.boost(one.held.seasons or [], today, span) for one, span in zip(rows, spans, strict=True)]),
        lead=column([one.lead.days for one in rows]),
        lead_sd=column([one.lead.sd for one in rows]),
        review=column([float(wishes.review) for _ in rows]),
        service=column([(one.held.service or wishes.service) / 1_000_000 for one in rows]),
        on_hand=whole([one.stock.there for one in rows]),
        on_the_way=whole([sum(units for _, units in one.coming) for one in rows]),
        owed=whole([one.owed for one in rows]),
        carton=whole([one.carton for one in rows]),
        least=whole([one.held.least for one in rows]),
        unit_cost=column([float(one.unit_cost) for one in rows]),
        hold=column([wishes.hold / 1_000_000 for _ in rows]),
        order_cost=column([float(wishes.order_cost) for _ in rows]),
        keeps=column([float(one.keeps) for one in rows]),
        litres=column([litres((one.held.sides[0], one.held.sides[1], one.held.sides[2])) for one in rows]),
    )


@dataclass(frozen=True)
class Look:
    """What is likely of one SKU's stock. days: of the picture; order_in: days until it should be ordered, None = not within them;
    cover: days that its stock lasts at its pace, None where nothing is sold; arrives: (day, units)."""

    ahead: stock_ahead.Ahead
    arrives: list[tuple[int, int]]
    order_in: int | None
    cover: float | None


def look(of: ReorderPlan, n: int, days: int = AHEAD, extra: int = 0) -> Look:
    """The days to come of one row. extra: units ordered today, which arrive after the usual time."""
    row, found = of.rows[n], of.wanted.moments
    base = float(found.mean[n] / of.stocks.boost[n]) if of.stocks.boost[n] else 0.0
    spread = float(found.variance[n] / of.stocks.boost[n] ** 2) if of.stocks.boost[n] else 0.0
    times = pace.boosts(row.held.seasons or [], of.today, days)
    laws = {one: stock_ahead.day_law(base * one, spread * one * one) for one in set(times)}
    arrivals: dict[int, int] = {}
    for due, units in row.coming:
        day = max((due - of.today).days, 1) if due else round(row.lead.days)
        if day < days:
            arrivals[day] = arrivals.get(day, 0) + units
    if extra and (day := max(round(row.lead.days), 1)) < days:
        arrivals[day] = arrivals.get(day, 0) + extra
    there = row.stock.there - row.owed
    ahead = stock_ahead.ahead(there, arrivals, [laws[one] for one in times])
    return Look(ahead, sorted(arrivals.items()), _order_in(of, n), _cover(of, n))


def _order_in(of: ReorderPlan, n: int) -> int | None:
    """Days until the position falls to the reorder point at its pace."""
    mean, above = float(of.wanted.moments.mean[n]), int(of.wanted.position[n] - of.wanted.point[n])
    if mean <= 0:
        return None
    return 0 if above < 0 else int(above / mean) + 1


def _cover(of: ReorderPlan, n: int) -> float | None:
    mean = float(of.wanted.moments.mean[n])
    return max(float(of.wanted.position[n]) / mean, 0.0) if mean > 0 else None


@dataclass(frozen=True)
class Slow:
    """Stock that lies: what it costs a month to keep (storage, and what its money would earn), and what it cost."""

    row: Goods
    days: float | None
    month: int
    value: int


def slow(of: ReorderPlan, worth: HomeWorth) -> list[Slow]:
    """Goods that will not be sold within half a year at their pace, the dearest to keep first."""
    out = []
    for n, row in enumerate(of.rows):
        mean = float(of.wanted.moments.mean[n])
        days = row.stock.there / mean if mean > 0 else None
        if not row.stock.there or (days is not None and days <= SLOW_DAYS):
            continue
        value = worth.of(row.stock.value, row.depot.currency)
        storage = worth.of(round(row.storage_day * 30 * row.stock.there), row.depot.currency)
        out.append(Slow(row, days, storage + round(value * of.wishes.hold / 1_000_000 / 12), value))
    return sorted(out, key=lambda one: -one.month)
