"""Why profit changed between two periods: eight effects that add up to it exactly, the SKUs behind each, and what was done meanwhile."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import func, select

from ...core.books import Bridge, bridge
from ...core.writing import grouped
from ...data.bulk import by_id
from ...data.outbox import AuditEntry
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision
from ..base import house_days
from ..base.context import Context
from .grouping import Period
from .profit import by_sku

# Acts that change what is earned, by the effect that they may be behind.
ACTS: dict[str, tuple[str, ...]] = {
    "price": ("rule.change", "policy.change", "price.hand", "price.sheet", "fees.change", "watch.respond", "watch.step"),
    "cost": (
        "watch.respond",
        "watch.step",
        "rate.daily",
        "rate.change",
        "terms.change",
        "lane.change",
        "lane.sheet",
        "lane.cost",
        "plan.reached",
    ),
    "fees": ("fees.change", "terms.change"),
    "new": ("listing.publish", "listing.prepare", "listing.again", "lane.open", "store.on"),
    "ended": ("listing.end", "lane.close", "partner.end", "partner.pause", "store.off"),
    "volume": ("store.on", "store.off", "partner.pause", "partner.end", "listing.publish", "allowance.set"),
    "mix": ("listing.publish", "listing.end", "price.hand", "allowance.set"),
    "other": ("order.cancel", "order.cancelled", "order.lines", "purchase.bill", "buyer.told"),
}
MOST_SKUS, MOST_ACTS = 50, 8


@dataclass(frozen=True)
class Part:
    """A SKU's share of an effect, house minor units. sku: 0 = what belongs to none, such as fixed costs."""

    sku: int
    code: str
    title: str
    amount: int


def changed(context: Context, period: Period, against: Period, filters: Mapping[str, int] | None = None) -> Bridge[int]:
    """The bridge from one period's profit to the other's, by SKU."""
    return bridge(by_sku(context, against, filters), by_sku(context, period, filters))


def parts_of(context: Context, found: Bridge[int], effect: str, most: int = MOST_SKUS) -> tuple[list[Part], int, int]:
    """The SKUs that made an effect, those with most of it first; how many more there are, and what they come to."""
    shares = {sku: amount for sku, amount in found.parts(effect).items() if amount}
    order = sorted(shares, key=lambda sku: (-abs(shares[sku]), sku))
    rows = by_id(context.session, Sku, order[:most])
    out = [
        Part(sku, rows[sku].code if sku in rows else "", rows[sku].title if sku in rows else "Of no SKU", shares[sku])
        for sku in order[:most]
    ]
    return out, len(order) - len(out), sum(shares[sku] for sku in order[most:])


def acts_of(context: Context, effect: str, period: Period, against: Period) -> list[AuditEntry]:
    """What was done from the beginning of the earlier period to the end of the later one that may be behind an effect, newest first."""
    first = house_days.begin(context, min(period.first, against.first))
    last = house_days.begin(context, max(period.last, against.last) + timedelta(days=1))
    rows = select(AuditEntry).where(AuditEntry.kind.in_(ACTS[effect]), AuditEntry.at >= first, AuditEntry.at < last)
    return list(context.session.scalars(rows.order_by(AuditEntry.count.desc(), AuditEntry.id.desc()).limit(MOST_ACTS)))


def sentence(context: Context, found: Bridge[int], effect: str, period: Period, against: Period) -> str:
    """What is behind an effect, in a sentence: how many SKUs made most of it, and of costs and prices whose news moved them."""
    shares = {sku: amount for sku, amount in found.parts(effect).items() if amount}
    if not shares:
        return "Nothing of the change comes from this."
    order = sorted(shares, key=lambda sku: -abs(shares[sku]))
    whole, most, n = sum(abs(one) for one in shares.values()), 0, 0
    for sku in order:
        most, n = most + abs(shares[sku]), n + 1
        if most * 10 >= whole * 8:
            break
    told = (
        f"{MEANING[effect]} {grouped(n)} of {grouped(len(order))} SKUs make{'s' if n == 1 else ''} four fifths of it."
        if len(order) > 1
        else MEANING[effect]
    )
    if effect in ("price", "cost"):
        by = _suppliers_behind(context, [sku for sku in order[:500] if sku], period, against)
        if by:
            told += f" Prices of these SKUs were changed {grouped(by[0][1])} times by news of {by[0][0]}."
    return told


MEANING = {
    "new": "What sold in this period and not in the one before.",
    "ended": "What sold in the period before and not in this one.",
    "volume": "More or fewer units, at what a unit left before.",
    "mix": "More or less of what leaves much, beside what leaves little.",
    "price": "What buyers paid for a unit, after tax.",
    "cost": "What a unit cost us: goods, sending and handling.",
    "fees": "What stores and payment took of a unit.",
    "other": "Refunds, claims, rebates, fixed costs and late bills of what did not sell.",
}


def _suppliers_behind(context: Context, skus: list[int], period: Period, against: Period) -> list[tuple[str, int]]:
    """Suppliers whose news changed the prices of these SKUs in the two periods, with how often; most first."""
    first = house_days.begin(context, min(period.first, against.first))
    last = house_days.begin(context, max(period.last, against.last) + timedelta(days=1))
    n = func.count()
    rows = context.session.execute(
        select(Supplier.name, n)
        .select_from(ListingDecision)
        .join(Listing, Listing.id == ListingDecision.listing_id)
        .join(Item, Item.id == ListingDecision.item_id)
        .join(Supplier, Supplier.id == Item.supplier_id)
        .where(Listing.sku_id.in_(skus), ListingDecision.kind == "reprice", ListingDecision.at >= first, ListingDecision.at < last)
        .group_by(Supplier.id)
        .order_by(n.desc())
    )
    return [(name, int(times)) for name, times in rows]
