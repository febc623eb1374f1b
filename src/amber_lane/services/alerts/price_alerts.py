"""Open troubles of prices: what waits at a limit, what moved too many at once, rates, and stores that show something else."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from sqlalchemy import case, func, select

from ...core.currency import show
from ...core.numbers import PPM, half_up, show_rate
from ...core.price import SetBy
from ...core.risk import oversell_a_day
from ...core.states import DecisionState, ListingState
from ...core.writing import grouped
from ...data.base import by_index
from ...data.lanes import Lane, LanePart
from ...data.outbox import AuditEntry
from ...data.prices import Rate
from ...data.setup import RateSource, Store, Supplier
from ...data.shelf import HAS_NO_RULE, Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision, Sweep
from ..base import house_days
from ..base.context import Context
from ..listings import allowance, drift
from ..pricing import exchange_rates, memberships, what_if
from ..pricing.decide import CROWD
from ..pricing.inputs import house_ppm
from ..pricing.policy import refund_cost
from .alert import Alert, AlertKey, AlertStep, Doing, Source, acts
from .snoozing import snooze


def _waiting_listings(context: Context) -> Iterator[Alert]:
    newest = select(func.max(ListingDecision.id)).where(ListingDecision.state == DecisionState.waits).group_by(ListingDecision.listing_id)
    newest = by_index(newest, ListingDecision, "ix_listing_decision_state_at")
    worth = exchange_rates.factor(context, Listing.currency)
    rows = context.session.execute(
        select(
            ListingDecision.set_by,
            ListingDecision.outcome,
            func.count(),
            func.min(ListingDecision.at),
            func.sum(case((Listing.profit < 0, -Listing.profit), else_=0) * Sku.pace * worth),
        )
        .join(Listing, Listing.id == ListingDecision.listing_id)
        .join(Sku, Sku.id == Listing.sku_id)
        .where(ListingDecision.id.in_(newest), Listing.state != ListingState.ended, ListingDecision.outcome != CROWD)
        .group_by(ListingDecision.set_by, ListingDecision.outcome)
    ).all()
    names = {SetBy.ceiling: "Ceiling", SetBy.step: "Step"}
    for set_by, outcome, n, since, loss in rows:
        limit = {SetBy.ceiling: "need more than their price ceiling", SetBy.step: "need a larger step than you allow"}.get(
            set_by, "have no price that meets your limits"
        )
        if outcome == 2:
            limit = "would lose money at their price ceiling" if set_by == SetBy.ceiling else "would lose money in one step"
        limit = limit if n > 1 else limit.replace("need ", "needs ").replace("have ", "has ").replace("their", "its")
        yield Alert(
            AlertKey("waits", set_by, outcome),
            "watch",
            names.get(set_by, "No price"),
            f"{n} listing{'s' if n > 1 else ''} {limit}",
            "the old price stands, or the listing is paused where it would lose money",
            since,
            AlertStep(f"Review {n}", go=f"/watch?state=waits&set_by={set_by}&outcome={outcome}"),
            half_up(int(loss or 0), PPM),
            True,
            count=n,
            other=AlertStep("Leave as they are", act=True),
        )


def _crowds(context: Context) -> Iterator[Alert]:
    """Prices that wait since more of them move at once than the limits let go alone."""
    losing = case((Listing.profit < 0, -Listing.profit), else_=0)
    n, since, loss, first = context.session.execute(
        select(
            func.count(ListingDecision.listing_id.distinct()),
            func.min(ListingDecision.at),
            func.sum(losing * Sku.pace * exchange_rates.factor(context, Listing.currency)),
            func.min(ListingDecision.id),
        )
        .join(Listing, Listing.id == ListingDecision.listing_id)
        .join(Sku, Sku.id == Listing.sku_id)
        .where(ListingDecision.state == DecisionState.waits, ListingDecision.outcome == CROWD, Listing.state != ListingState.ended)
    ).one()
    if n:
        cause = context.session.execute(
            select(Supplier.name, AuditEntry.message)
            .select_from(ListingDecision)
            .outerjoin(Sweep, Sweep.id == ListingDecision.sweep_id)
            .outerjoin(Supplier, Supplier.id == Sweep.supplier_id)
            .outerjoin(AuditEntry, AuditEntry.id == ListingDecision.audit_entry_id)
            .where(ListingDecision.id == first)
        ).one()
        message = f"since a sweep of {cause[0]}" if cause[0] else str(cause[1] or "at once")
        yield Alert(
            AlertKey("crowd"),
            "watch",
            "Many at once",
            f"{n} prices would move: {message}" if cause[1] and not cause[0] else f"{n} prices would move {message}",
            "more than you let move at once; the old prices stand, what would lose money is off sale",
            since,
            AlertStep(f"Let {n} move", act=True),
            half_up(int(loss or 0), PPM),
            True,
            count=n,
            other=AlertStep(f"See {n}", go="/watch?state=many"),
        )


def _differences(context: Context) -> Iterator[Alert]:
    """Stores that show something else than we asked."""
    found: dict[int, list[drift.Differing]] = {}
    worth = exchange_rates.HomeWorth(context)
    for one in drift.differing(context):
        found.setdefault(one.store.id, []).append(one)
    for number, rows in found.items():
        n = len(rows)
        selling = [one for one in rows if one.drift.state == "live"]
        risk = sum(
            oversell_a_day(one.sku.pace, worth.of(one.listing.profit or 0, one.store.currency), refund_cost(context))
            if one.listing.state != ListingState.live
            else half_up(one.sku.pace * worth.of(max(one.listing.wanted_price - one.drift.price, 0), one.store.currency), PPM)
            for one in selling
        )
        yield Alert(
            AlertKey("drift", number),
            "watch",
            "Store differs",
            f"{rows[0].store.name} shows {n} listing{'s' if n > 1 else ''} otherwise than we asked: {rows[0].sku.code}",
            "found when the store's own listings were read",
            min(one.drift.seen_at for one in rows),
            AlertStep("Send ours again", act=True),
            risk,
            True,
            count=n,
            other=AlertStep(f"See {n}", go="/watch?state=differs"),
        )


def _odd_rates(context: Context) -> Iterator[Alert]:
    """Rates too far from the last ones, and rates that nobody has renewed for days."""
    for source in context.session.scalars(select(RateSource)):
        for name, message in (source.doubted or {}).items():
            yield Alert(
                AlertKey("oddrate", source.id, name),
                "price",
                "Odd rate",
                f"{source.name} says {show_rate(int(message['nano']))} for {name}, it was {show_rate(int(message['was']))}",
                "not used until it is told again on another day",
                datetime.fromisoformat(message["at"]),
                AlertStep("Keep the old rate", act=True),
                0,
                other=AlertStep("Use the new rate", act=True),
            )
    old = [one for one in exchange_rates.pairs(context) if one.old]
    if old:
        first = min(one.since for one in old if one.since)
        yield Alert(
            AlertKey("oldrate"),
            "price",
            "Old rate",
            f"the rate from {old[0].base} to {old[0].quote} is of {house_days.day_text(context, first)}"
            + (f", and {len(old) - 1} more" if len(old) > 1 else ""),
            "prices are made with it until there is a new one",
            first,
            AlertStep("Enter the rate", go="/price?view=fees"),
            0,
            count=len(old),
        )


def _no_rate(context: Context) -> Iterator[Alert]:
    """Lanes whose money cannot be counted in the store's: their listings keep their price until a rate is there."""
    found: dict[tuple[str, str], tuple[int, datetime]] = {}
    wanting = sorted(exchange_rates.needed(context) - set(context.session.execute(select(Rate.base, Rate.quote)).tuples().all()))
    # Nearly always all rates are there, and nobody's listings need be counted.
    for money, quote in wanting:
        for column in (Supplier.currency, Item.currency):
            n, since = context.session.execute(
                select(func.count(func.distinct(Listing.id)), func.min(Lane.opened_at))
                .select_from(Listing)
                .join(Lane, (Lane.sku_id == Listing.sku_id) & (func.coalesce(Lane.store_id, Listing.store_id) == Listing.store_id))
                .join(Supplier, Supplier.id == Lane.supplier_id)
                .join(LanePart, LanePart.lane_id == Lane.id)
                .join(Item, Item.id == LanePart.item_id)
                .where(
                    Lane.closed_at.is_(None),
                    column == money,
                    Listing.currency == quote,
                    Listing.state.in_((ListingState.live, ListingState.paused)),
                )
            ).one()
            if n > found.get((money, quote), (0, None))[0]:
                found[money, quote] = (n, since)
    for (money, quote), (n, since) in found.items():
        yield Alert(
            AlertKey("rate", f"{money}-{quote}"),
            "price",
            "No rate",
            f"No exchange rate from {money} to {quote}: {n} {'listings keep their' if n > 1 else 'listing keeps its'} price",
            "what an item costs cannot be counted in the store's money",
            since,
            AlertStep("Enter the rate", go="/price?view=fees"),
            0,
            count=n,
        )


def _no_rule_rate(context: Context) -> Iterator[Alert]:
    """Price rules whose amounts cannot be counted in a store's money: its listings keep their price until a rate is there."""
    worth = exchange_rates.HomeWorth(context).rates
    found: dict[tuple[str, str], set[int]] = {}
    for money, quote, rule in exchange_rates.rule_pairs(context):
        if house_ppm(worth, money, quote) is None:
            whose = {"store": Store.code, "category": Sku.category, "sku": Sku.code, "supplier": Supplier.code}.get(rule.scope)
            listings = (
                select(Listing.id)
                .join(Sku, Sku.id == Listing.sku_id)
                .join(Store, Store.id == Listing.store_id)
                .outerjoin(Lane, Lane.id == Listing.lane_id)
                .outerjoin(Supplier, Supplier.id == Lane.supplier_id)
                .where(Listing.currency == quote, Listing.state.in_((ListingState.live, ListingState.paused)))
            )
            mine = listings if whose is None else listings.where(whose == rule.scope_key)
            found.setdefault((money, quote), set()).update(context.session.scalars(mine))
    asked = {one.key for one in _no_rate(context)}
    for (money, quote), ids in found.items():
        if ids and f"rate:{money}-{quote}" not in asked:
            yield Alert(
                AlertKey("rulerate", f"{money}-{quote}"),
                "price",
                "No rate",
                f"No exchange rate from {money} to {quote}: "
                f"{grouped(len(ids))} {'listings keep their' if len(ids) > 1 else 'listing keeps its'} price",
                f"amounts of price rules are in {money} and cannot be counted in the store's money",
                context.now,
                AlertStep("Enter the rate", go="/price?view=fees"),
                0,
                count=len(ids),
            )


def _no_home_rate(context: Context) -> Iterator[Alert]:
    """A store whose currency has no rate to the house's: what it earns is in no sum until somebody says what it is worth."""
    worth = exchange_rates.HomeWorth(context)
    asked = {one.key for one in (*_no_rate(context), *_no_rule_rate(context))}
    rows = select(Store.currency, func.min(Store.name), func.count(Store.id)).where(Store.ended_at.is_(None)).group_by(Store.currency)
    for money, name, n in context.session.execute(rows).tuples():
        # The rate the other way round, if that is asked for already, would do.
        if worth.ppm(money) is None and asked.isdisjoint({f"rate:{worth.home}-{money}", f"rulerate:{worth.home}-{money}"}):
            yield Alert(
                AlertKey("homerate", f"{money}-{worth.home}"),
                "price",
                "No rate",
                f"No exchange rate from {money} to {worth.home}: sums over all stores leave out {name if n == 1 else f'{n} stores'}",
                "nothing is added one to one",
                context.now,
                AlertStep("Enter the rate", go="/price?view=fees"),
                0,
            )


def _over_allowance(context: Context) -> Iterator[Alert]:
    """Stores that we ask to show more than they take, told before they refuse it."""
    worth = exchange_rates.HomeWorth(context)
    for one in allowance.over(context):
        asked, most = (show(n, one.store.currency) if one.what == "value" else f"{grouped(n)} {one.what}" for n in (one.asked, one.most))
        yield Alert(
            AlertKey("allowance", one.store.id),
            "shelf",
            "Allowance",
            f"{one.store.name} is asked to show {asked}; it takes {most}",
            "it will reject what is over, whichever that is; choose what earns most instead",
            context.now,
            AlertStep("Plan what to show", go=f"/shelf?allowance={one.store.id}"),
            worth.of(one.loss, one.store.currency),
            True,
        )


def _plans(context: Context) -> Iterator[Alert]:
    """Plans that would pay at the present pace and are not taken; each is told once, until a person says that it is not for us."""
    worth = exchange_rates.HomeWorth(context)
    for one in memberships.worths(context):
        if one.plan.taken or one.plan.counts or one.worth.pays_from is None or one.worth.saves <= 0:
            continue
        money = one.supplier.currency
        yield Alert(
            AlertKey("plan", one.supplier.id, one.plan.name),
            "price",
            "Plan",
            f"{one.plan.name} of {one.supplier.name} would save {show(one.worth.saves, money)} a month",
            f"it pays from {show(one.worth.pays_from, money)} of purchases a month; at the present pace you buy {show(one.pace, money)}",
            context.now,
            AlertStep("See what it would do", go="/price?view=plans"),
            worth.of(half_up(one.worth.saves, 30), money),
            True,
            other=AlertStep("Not for us", act=True),
        )


def _no_rule(context: Context) -> Iterator[Alert]:
    """Listings whose prices may be written and for which nobody said how to price: they keep their own. Told once, for all of them."""
    query = (
        select(func.count(Listing.id), func.min(Listing.sku_id))
        .join(Store, Store.id == Listing.store_id)
        .where(Store.write_prices, HAS_NO_RULE)
    )
    n, first = context.session.execute(by_index(query, Listing, "ix_listing_no_rule")).one()
    if n:
        sku = context.get(Sku, first, "SKU").code
        yield Alert(
            AlertKey("norule"),
            "price",
            "No rule yet",
            f"{grouped(n)} listings have no price rule and keep their own price"
            if n > 1
            else f"{sku} has no price rule and keeps its own price",
            "no general rule and none of their supplier, category, store or SKU says how to price them; they do not follow their cost",
            context.now,
            AlertStep("Set a rule", go="/price"),
            0,
            count=n,
        )


@acts("waits")
def _leave_waiting(do: Doing) -> None:
    what_if.answer_waiting(do.context, what_if.waiting(do.context, *do.alert.key.about), approve=False)


@acts("crowd")
def _let_go(do: Doing) -> None:
    what_if.answer_waiting(do.context, what_if.crowd(do.context), approve=True)


@acts("drift")
def _settle_drift(do: Doing) -> None:
    (store,) = do.alert.key.about
    drift.resolve(do.context, [one.drift.id for one in drift.differing(do.context, store)], ours=not do.other)


@acts("oddrate")
def _settle_rate(do: Doing) -> None:
    source, pair = do.alert.key.about
    exchange_rates.answer_doubt(do.context, source, pair, believe=do.other)


@acts("plan")
def _not_for_us(do: Doing) -> str:
    snooze(do.context, do.alert.key, timedelta(days=5 * 365))
    return f"{do.alert.message}: not for us"


SOURCES: dict[str, Source] = {
    "norule": _no_rule,
    "plan": _plans,
    "allowance": _over_allowance,
    "waits": _waiting_listings,
    "crowd": _crowds,
    "drift": _differences,
    "oddrate oldrate": _odd_rates,
    "rate": _no_rate,
    "homerate": _no_home_rate,
    "rulerate": _no_rule_rate,
}
