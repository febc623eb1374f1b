"""Books: what kinds of money there are, between which accounts each moves, and why profit changed (section 10)."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from math import floor
from typing import Generic, TypeVar

from .numbers import half_up

K = TypeVar("K", bound=Hashable)


class Ledger(StrEnum):
    """Between these accounts all money moves; together they are always nought. Of profit plus is a gain; of the others plus is what we owe
    (to buyers, suppliers, the tax office), and minus what is owed to us or lies in the bank."""

    profit = "profit"
    # Paid by buyers for what is not bought yet.
    open_orders = "open_orders"
    store = "store"
    supplier = "supplier"
    tax_office = "tax_office"
    bank = "bank"


class Kind(StrEnum):
    """What an entry is about. Its amount is signed as it changes profit (of the last ones: the account named first in MOVES)."""

    sale = "sale"
    shipping_paid = "shipping_paid"
    discount = "discount"
    tax = "tax"
    store_fee = "store_fee"
    payment_fee = "payment_fee"
    goods = "goods"
    shipping = "shipping"
    handling = "handling"
    supplier_tax = "supplier_tax"
    refund = "refund"
    fee_back = "fee_back"
    claim = "claim"
    return_cost = "return_cost"
    rebate = "rebate"
    plan_fee = "plan_fee"
    sample = "sample"
    overhead = "overhead"
    rate_difference = "rate_difference"
    # What a store adds or takes without an order.
    correction = "correction"
    prepaid = "prepaid"
    payout = "payout"
    supplier_paid = "supplier_paid"


# Kind -> (the account that its amount is added to, the one that it is taken from).
MOVES: dict[Kind, tuple[Ledger, Ledger]] = {
    Kind.sale: (Ledger.profit, Ledger.open_orders),
    Kind.shipping_paid: (Ledger.profit, Ledger.open_orders),
    Kind.discount: (Ledger.profit, Ledger.open_orders),
    # Where the store hands the tax over, it is taken off what the store owes us instead.
    Kind.tax: (Ledger.profit, Ledger.tax_office),
    **dict.fromkeys((Kind.store_fee, Kind.payment_fee, Kind.refund, Kind.fee_back, Kind.correction), (Ledger.profit, Ledger.store)),
    **dict.fromkeys(
        (Kind.goods, Kind.shipping, Kind.handling, Kind.supplier_tax, Kind.claim, Kind.rebate, Kind.sample),
        (Ledger.profit, Ledger.supplier),
    ),
    **dict.fromkeys((Kind.return_cost, Kind.plan_fee, Kind.overhead), (Ledger.profit, Ledger.bank)),
    Kind.rate_difference: (Ledger.profit, Ledger.supplier),
    Kind.prepaid: (Ledger.open_orders, Ledger.store),
    Kind.payout: (Ledger.store, Ledger.bank),
    Kind.supplier_paid: (Ledger.bank, Ledger.supplier),
}


class Basis(StrEnum):
    """Why an entry is there: as it was planned at buying, or what made it differ from that."""

    planned = "planned"
    # What a supplier billed, or a statement says, beside what was planned.
    bill = "bill"
    weight = "weight"
    rate = "rate"
    fee = "fee"
    refund = "refund"
    # It was not bought after all, or was found to be otherwise: what was written before is taken back.
    reversal = "reversal"
    statement = "statement"


PROFIT_KINDS = tuple(kind for kind, (to, _) in MOVES.items() if to is Ledger.profit)
REVENUE = (Kind.sale, Kind.shipping_paid, Kind.discount, Kind.tax)
COSTS = (Kind.goods, Kind.shipping, Kind.handling, Kind.supplier_tax)
FEES = (Kind.store_fee, Kind.payment_fee)
# What is no part of any sale: it stands below the contribution.
BELOW = (Kind.plan_fee, Kind.sample, Kind.overhead, Kind.rate_difference)
OTHER = tuple(kind for kind in PROFIT_KINDS if kind not in (*REVENUE, *COSTS, *FEES, *BELOW))


@dataclass(frozen=True, slots=True)
class Sums:
    """A SKU's part of a period. units sold; revenue = sales - tax, cost = goods + sending, fees: positive minor units;
    other: refunds, claims and rebates, signed."""

    units: int
    revenue: int
    cost: int
    fees: int
    other: int = 0

    @property
    def contribution(self) -> int:
        return self.revenue - self.cost - self.fees


NOTHING = Sums(0, 0, 0, 0)
EFFECTS = ("new", "ended", "volume", "mix", "price", "cost", "fees", "other")


Ratio = tuple[int, int]
"""An exact amount: numerator and denominator (above 0)."""


@dataclass(frozen=True)
class Bridge(Generic[K]):
    """Profit of two periods and what the change is made of, in minor units: before + the effects = after, exactly.

    exact: effect -> SKU -> its share of that effect, not rounded yet.
    """

    before: int
    after: int
    effects: dict[str, int]
    exact: dict[str, dict[K, Ratio]]

    def parts(self, effect: str) -> dict[K, int]:
        """The shares of an effect in whole minor units, which add up to it."""
        rows = self.exact[effect]
        return dict(zip(rows, _near(list(rows.values()), self.effects[effect]), strict=True))


def share_out(amounts: Sequence[Fraction], total: int) -> list[int]:
    """Amounts rounded down, and what is missing of the total one each to those with the largest remainders; on a tie the first ones.

    amounts: fractions that add up to total, minor units.

    >>> share_out([Fraction(1, 3), Fraction(2, 3), Fraction(-1)], 0)
    [0, 1, -1]
    """
    whole = [floor(one) for one in amounts]
    missing = total - sum(whole)
    order = sorted(range(len(amounts)), key=lambda n: (whole[n] - amounts[n], n))
    for n in order[:missing]:
        whole[n] += 1
    return whole


def allocate(total: int, weights: Sequence[int]) -> list[int]:
    """A sum shared out by weights (all >= 0), to the last minor unit; alike where all of them are 0.

    >>> allocate(100, [1, 1, 1]), allocate(-5, [3, 0]), allocate(7, [0, 0])
    ([34, 33, 33], [-5, 0], [4, 3])
    """
    if not weights:
        return []
    base = sum(weights)
    parts = [Fraction(total * one, base) for one in weights] if base else [Fraction(total, len(weights))] * len(weights)
    return share_out(parts, total)


def goes_back(refund: int, total: int, amount: int) -> int:
    """The part of an amount (tax, a fee) that goes back with a refund of a line: half up, all of it with all of the line.

    >>> goes_back(500, 2000, 333), goes_back(2000, 2000, 333), goes_back(0, 0, 333)
    (83, 333, 0)
    """
    return half_up(amount * refund, total) if total > 0 else 0


def bridge(before: Mapping[K, Sums], after: Mapping[K, Sums]) -> Bridge[K]:
    """Why profit changed between two periods, one row per SKU each (section 10).

    >>> found = bridge({"A": Sums(10, 1000, 600, 100)}, {"A": Sums(20, 1900, 1300, 200, -7)})
    >>> found.before, found.after, {name: n for name, n in found.effects.items() if n}
    (300, 393, {'volume': 300, 'price': -100, 'cost': -100, 'other': -7})
    """
    skus = list(dict.fromkeys((*before, *after)))
    both = [one for one in skus if before.get(one, NOTHING).units and after.get(one, NOTHING).units]
    sold_a, sold_b = sum(before[one].units for one in both), sum(after[one].units for one in both)
    exact: dict[str, dict[K, Ratio]] = {name: {} for name in EFFECTS}
    for one in skus:
        was, now = before.get(one, NOTHING), after.get(one, NOTHING)
        # What a row without units cost or left counts as other.
        other = now.other - was.other + (0 if now.units else now.contribution) - (0 if was.units else was.contribution)
        exact["other"][one] = (other, 1)
        if now.units and not was.units:
            exact["new"][one] = (now.contribution, 1)
        elif was.units and not now.units:
            exact["ended"][one] = (-was.contribution, 1)
    for one in both:
        was, now = before[one], after[one]
        a, b = was.units, now.units
        exact["volume"][one] = ((sold_b - sold_a) * was.contribution, sold_a)
        exact["mix"][one] = ((b * sold_a - a * sold_b) * was.contribution, a * sold_a)
        exact["price"][one] = (now.revenue * a - b * was.revenue, a)
        exact["cost"][one] = (b * was.cost - now.cost * a, a)
        exact["fees"][one] = (b * was.fees - now.fees * a, a)
    profit_a, profit_b = (sum(one.contribution + one.other for one in rows.values()) for rows in (before, after))
    sums = [_sum(exact[name].values()) for name in EFFECTS]
    effects = dict(zip(EFFECTS, share_out(sums, profit_b - profit_a), strict=True))
    return Bridge(profit_a, profit_b, effects, exact)


def _sum(amounts: Iterable[Ratio]) -> Fraction:
    """Exact amounts added up, by denominator first, which is much quicker than one by one."""
    tops: dict[int, int] = {}
    for top, bottom in amounts:
        tops[bottom] = tops.get(bottom, 0) + top
    return sum((Fraction(top, bottom) for bottom, top in tops.items()), Fraction(0))


def _near(amounts: Sequence[Ratio], total: int) -> list[int]:
    """Whole minor units near these amounts that add up to a total that may be one away from their own sum."""
    whole = [top // bottom for top, bottom in amounts]
    missing = total - sum(whole)
    order = sorted(range(len(amounts)), key=lambda n: (-(amounts[n][0] % amounts[n][1]) / amounts[n][1], n))
    step = 1 if missing > 0 else -1
    for n in order[:missing] if step > 0 else order[len(order) + missing :]:
        whole[n] += step
    return whole
