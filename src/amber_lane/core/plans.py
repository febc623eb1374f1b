"""Memberships and volume discounts of a supplier: what they give, and from which sales on they pay."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from .numbers import PPM, half_up

MOST = 12


@dataclass(frozen=True)
class Membership:
    """One offer. fee: a month, whatever is bought; from_spend: goods a month that it asks for; money in minor units of
    the supplier's currency, discount in ppm. taken: a person has joined it; reached: last month's goods were enough.
    """

    name: str
    discount: int
    fee: int = 0
    from_spend: int = 0
    taken: bool = False
    reached: bool = False

    @property
    def counts(self) -> bool:
        """Whether its discount is given now."""
        return self.taken and (self.reached or not self.from_spend)


def discount_given(own: int, plans: Iterable[Membership]) -> int:
    """The discount that counts: the highest that is given; discounts are not added up.

    >>> discount_given(10_000, [Membership("club", 40_000, 900, taken=True), Membership("pallet", 60_000, from_spend=500_000, taken=True)])
    40000
    """
    return max([own, *(plan.discount for plan in plans if plan.counts)])


@dataclass(frozen=True)
class MembershipWorth:
    """Whether a plan pays. Money a month in minor units: pays_from = goods at full price from which on it does (None = never),
    saves = at the present pace, fee paid; share = present pace of what it needs, in ppm (None where it never pays)."""

    pays_from: int | None
    saves: int
    share: int | None


def worth(plan: Membership, other: int, pace: int) -> MembershipWorth:
    """other: the discount that we have without it (ppm); pace: goods bought a month at full price.

    >>> worth(Membership("club", 40_000, 900), 10_000, 45_000)
    MembershipWorth(pays_from=30000, saves=450, share=1500000)
    """
    more = plan.discount - other
    if more <= 0:
        return MembershipWorth(None, -plan.fee, None)
    need = max(-(-plan.fee * PPM // more), plan.from_spend)
    given = half_up(pace * more, PPM) if pace >= plan.from_spend else 0
    return MembershipWorth(need, given - plan.fee, None if need == 0 else pace * PPM // need)


def plan_faults(plans: Sequence[Membership]) -> str:
    """What is wrong with the offers of a supplier, in plain words; '' = nothing."""
    if len(plans) > MOST:
        return f"a supplier has at most {MOST} plans"
    if len({plan.name for plan in plans}) != len(plans):
        return "two plans have the same name"
    for plan in plans:
        if not plan.name.strip() or len(plan.name) > 60:
            return "a plan needs a name of up to 60 letters"
        if not 0 < plan.discount < PPM:
            return f"{plan.name}: its discount must lie between 0 and 100 %"
        if not 0 <= min(plan.fee, plan.from_spend) <= max(plan.fee, plan.from_spend) <= 10**10:
            return f"{plan.name}: its fee and its least spend must be amounts of 0 or more"
    return ""
