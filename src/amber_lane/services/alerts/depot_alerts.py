"""Open troubles of our stock in depots: what has to be sent, what came short, what does not agree, what lies."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from sqlalchemy import select

from ...core.currency import show, usual_amount
from ...core.states import LOAD_COMING, HeldState, InboundState
from ...core.writing import decimals, grouped, short
from ...data.depot import HeldGoods, Inbound
from ...data.setup import Supplier
from ...data.shelf import Sku
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..base.regional import home_of
from ..depot import arrivals, ledger, loads, planning
from ..depot.arrivals import Settling
from ..pricing.exchange_rates import HomeWorth
from .alert import Alert, AlertKey, AlertStep, Doing, Source, acts

# A load is late when it is so many days over the day on which it should have been counted.
LATE = timedelta(days=2)
# What lies is told from so much a month on, in euro cents' worth of the house's money.
SLOW_FROM = 500


def _reorder(context: Context) -> Iterator[Alert]:
    """Goods to be ordered today, each with how many."""
    found, home = planning.plan(context), home_of(context.session)
    for n, row in enumerate(found.rows):
        units = found.order(n)
        if not units:
            continue
        chance, allowed = round(100 * float(found.wanted.out[n])), round(100 - float(found.stocks.service[n]) * 100, 1)
        name = row.sku.title or row.sku.code
        yield Alert(
            AlertKey("reorder", row.held.id),
            "depot",
            "Reorder",
            f"{name}: {row.stock.there} left at {row.depot.name}, {chance} % chance of running out if it is ordered at the next look only",
            f"{short(allowed)} % are allowed; {decimals(float(found.wanted.moments.mean[n]), 1)} are sold a day, "
            f"a load takes {row.lead.days:.0f} days",
            context.now,
            AlertStep(f"Order {grouped(units)}, {show(units * row.unit_cost, home)}", act=True),
            round(float(found.chosen.avoided[n])),
            other=AlertStep("Stock ahead", go=f"/depot?sku={row.held.id}"),
        )


@acts("reorder")
def _order(do: Doing) -> str:
    number = int(do.alert.key.about[0])
    found = planning.plan(do.context, only=None)
    units = next((found.order(n) for n, row in enumerate(found.rows) if row.held.id == number), 0)
    if not units:
        raise Conflict("nothing has to be ordered of it any more")
    made = loads.order_all(do.context, [(number, units)])
    return f"load {made[0].reference}: {units} units are ordered"


def _differences(context: Context) -> Iterator[Alert]:
    """Loads that brought less than was sent, or damaged goods."""
    worth = HomeWorth(context)
    for line, load, held in arrivals.open_differences(context):
        depot = context.get(Supplier, load.supplier_id, "depot")
        lost = arrivals.lost_worth(line)
        who = context.get(Supplier, load.from_id, "supplier").name if load.from_id else depot.name
        yield Alert(
            AlertKey("short", line.id),
            "depot",
            "Short count",
            f"Load {load.reference}, {arrivals.difference(line, held.number)}",
            f"{show(lost, depot.currency)} of goods" if lost else "more came than was sent",
            load.counted_at or context.now,
            AlertStep(f"Claim it from {who}", act=True) if lost else AlertStep("It is right so", act=True),
            worth.of(lost, depot.currency),
            other=AlertStep("Write it off", act=True) if lost else None,
        )


@acts("short")
def _settle(do: Doing) -> None:
    line = int(do.alert.key.about[0])
    arrivals.settle(do.context, Settling(line, None, "written_off" if do.other or not do.alert.at_risk else "claim"))


def _differing(context: Context) -> Iterator[Alert]:
    """Goods of which the depot says something else than the ledger."""
    rows = arrivals.differing(context)
    stock = ledger.stock_of(context, [one.id for one in rows])
    worth = HomeWorth(context)
    for held in rows:
        depot, mine = context.get(Supplier, held.supplier_id, "depot"), stock[held.id]
        off = (held.told or 0) - mine.there
        yield Alert(
            AlertKey("stock_differs", held.id),
            "depot",
            "Stock differs",
            f"{held.number}: {depot.name} says {held.told} are there, our ledger has {mine.there}",
            "seen at two looks; compare both histories, then take the right count",
            held.differs_since or context.now,
            AlertStep("Compare both", go=f"/depot?view=ledger&sku={held.id}"),
            worth.of(abs(off) * mine.mean, depot.currency),
        )


def _questions(context: Context) -> Iterator[Alert]:
    """What depots want to know before they hold something, and what they will not hold."""
    rows = select(HeldGoods).where(HeldGoods.state == HeldState.question).order_by(HeldGoods.id)
    for held in context.session.scalars(rows):
        depot = context.get(Supplier, held.supplier_id, "depot")
        sku = context.get(Sku, held.sku_id, "SKU")
        yield Alert(
            AlertKey("depot_asks", held.id),
            "depot",
            "Depot asks",
            f"{depot.name} asks about {sku.title or sku.code}: {held.message}",
            "it does not say yes before it knows",
            held.asked_at,
            AlertStep("Answer", go=f"/depot?view=worth&answer={held.id}"),
        )


def _loads(context: Context) -> Iterator[Alert]:
    """Loads that are late, and those that their supplier will not send."""
    today, worth = house_days.today(context), HomeWorth(context)
    late = Inbound.state.in_(LOAD_COMING) & (Inbound.due < today - LATE)
    for load in context.session.scalars(select(Inbound).where(late | (Inbound.state == InboundState.refused)).order_by(Inbound.id)):
        depot = context.get(Supplier, load.supplier_id, "depot")
        who = context.get(Supplier, load.from_id, "supplier").name if load.from_id else "ourselves"
        due = house_days.day_text(context, load.due) if load.due else ""
        told = (
            f"{who} will not send load {load.reference}: {load.message}"
            if load.state == InboundState.refused
            else f"Load {load.reference} from {who} should have been counted in by {due}"
        )
        yield Alert(
            AlertKey("load", load.id),
            "depot",
            "Load refused" if load.state == InboundState.refused else "Load late",
            told,
            f"nothing of it is at {depot.name} yet",
            load.ordered_at or load.made_at,
            AlertStep("See the load", go=f"/depot?view=loads&load={load.id}"),
            worth.of(load.goods, load.currency),
        )


def _slow(context: Context) -> Iterator[Alert]:
    """Stock that will not be sold within half a year, with what it costs a month."""
    home = home_of(context.session)
    least = usual_amount(SLOW_FROM, home)
    for one in planning.slow(planning.plan(context), HomeWorth(context)):
        if one.month < least:
            continue
        lasts = "nothing of it is sold" if one.days is None else f"at its pace they last {one.days:.0f} days"
        yield Alert(
            AlertKey("slow_stock", one.row.held.id),
            "depot",
            "Slow stock",
            f"{one.row.sku.title or one.row.sku.code}: {one.row.stock.there} at {one.row.depot.name}, {lasts}",
            f"keeping them costs {show(one.month, home)} a month; they cost {show(one.value, home)}",
            context.now,
            AlertStep("See ways out", go=f"/depot?view=slow&sku={one.row.held.id}"),
            round(one.month / 30),
            True,
        )


SOURCES: dict[str, Source] = {
    "reorder": _reorder,
    "short": _differences,
    "stock_differs": _differing,
    "depot_asks": _questions,
    "load": _loads,
    "slow_stock": _slow,
}
